package landscape

import (
	"slices"

	"oakenchest/core/manifest"
)

// Passes reports whether work of a lane may come to an environment with just some gates
// having been asked: by one of the lane's own ways at least it meets no others. has tells
// which environments have the work already; the gates into these it has passed. When it may
// not, it gives the gates that were not asked on the way that has the fewest. A lane from which
// no way leads there has no gates to pass.
func (l *Landscape) Passes(lane, to string, asked []string, has func(environment string) bool) (missing []string, passes bool) {
	left := l.leftTo(to, asked, has)
	passes = true
	for _, e := range l.entries(lane) {
		gates, leads := left[e.Name]
		switch {
		case !leads || e.Name == to:
		case len(gates) == 0:
			return nil, true
		case passes || len(gates) < len(missing):
			missing, passes = gates, false
		}
	}
	return missing, passes
}

// entries lists the environments in which a lane's work begins: no other of the lane leads to
// them.
func (l *Landscape) entries(lane string) []manifest.Environment {
	members := l.Members(lane)
	return slices.DeleteFunc(slices.Clone(members), func(e manifest.Environment) bool {
		return slices.ContainsFunc(l.into[e.Name], func(m manifest.Move) bool {
			return slices.ContainsFunc(members, func(o manifest.Environment) bool { return o.Name == m.From && o.Name != e.Name })
		})
	})
}

// leftTo gives, for each environment from which a way leads to one, the gates that are left to
// pass on the way that has the fewest: shortest paths by relaxation, after R. Bellman, "On a
// routing problem" (1958).
func (l *Landscape) leftTo(to string, asked []string, has func(string) bool) map[string][]string {
	left := map[string][]string{to: nil}
	for changed := true; changed; {
		changed = false
		for _, m := range l.Manifest.Pipeline.Moves {
			rest, leads := left[m.To]
			if !leads || m.From == to {
				continue
			}
			gates := slices.Concat(l.gatesLeft(m, m.To == to, asked, has), rest)
			if known, ok := left[m.From]; !ok || len(gates) < len(known) {
				left[m.From], changed = gates, true
			}
		}
	}
	return left
}

// gatesLeft lists the gates of one move that are left to pass.
func (l *Landscape) gatesLeft(m manifest.Move, last bool, asked []string, has func(string) bool) []string {
	if !last && has(m.To) {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(l.Gates(m)), func(g string) bool { return slices.Contains(asked, g) })
}
