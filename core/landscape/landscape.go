// Package landscape reads a project's pipeline as a graph: which environment work may go
// on to, which are later than another, what is wrong with the whole, and when it is
// frozen or booked. It knows declarations and records only and reaches nothing.
package landscape

import (
	"slices"
	"strings"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Landscape is the environments of a project and the moves between them.
type Landscape struct {
	Manifest *manifest.Manifest
	on       map[string][]manifest.Move // by where they begin
	into     map[string][]manifest.Move // by where they end
}

// Of reads what a project declares.
func Of(m *manifest.Manifest) *Landscape {
	l := &Landscape{Manifest: m, on: map[string][]manifest.Move{}, into: map[string][]manifest.Move{}}
	for _, move := range m.Pipeline.Moves {
		l.on[move.From] = append(l.on[move.From], move)
		l.into[move.To] = append(l.into[move.To], move)
	}
	return l
}

// Free says that the project declares no moves: work may go from each environment to each
// other.
func (l *Landscape) Free() bool { return len(l.Manifest.Pipeline.Moves) == 0 }

// From lists the moves that begin at an environment.
func (l *Landscape) From(name string) []manifest.Move { return l.on[name] }

// Into lists the moves that end at an environment.
func (l *Landscape) Into(name string) []manifest.Move { return l.into[name] }

// Move gives the move between two environments; ok is false when it is not allowed.
func (l *Landscape) Move(from, to string) (m manifest.Move, ok bool) {
	if l.Free() {
		return manifest.Move{From: from, To: to}, from != to
	}
	i := slices.IndexFunc(l.on[from], func(m manifest.Move) bool { return m.To == to })
	if i < 0 {
		return m, false
	}
	return l.on[from][i], true
}

// Later lists the environments that work reaches after one, in the order of their
// declaration: along the moves, or by tier when none are declared.
func (l *Landscape) Later(name string) []manifest.Environment {
	var out []manifest.Environment
	if l.Free() {
		here, err := l.Manifest.Environment(name)
		for _, e := range l.Manifest.Environments {
			if err == nil && here.Tier.Rank() >= 0 && e.Tier.Rank() > here.Tier.Rank() {
				out = append(out, e)
			}
		}
		return out
	}
	reached := l.reached(name)
	for _, e := range l.Manifest.Environments {
		if reached[e.Name] && e.Name != name {
			out = append(out, e)
		}
	}
	return out
}

// reached gives the names that moves lead to from one.
func (l *Landscape) reached(name string) map[string]bool {
	out := map[string]bool{}
	for waiting := []string{name}; len(waiting) > 0; waiting = waiting[1:] {
		for _, m := range l.on[waiting[0]] {
			if !out[m.To] {
				out[m.To] = true
				waiting = append(waiting, m.To)
			}
		}
	}
	return out
}

// Members lists the environments of a lane.
func (l *Landscape) Members(lane string) []manifest.Environment {
	var out []manifest.Environment
	for _, e := range l.Manifest.Environments {
		if e.Lane == lane {
			out = append(out, e)
		}
	}
	return out
}

// OnPath reports whether work of a lane gets to an environment: it is one of the lane's, or moves lead there. Where no moves
// are declared, all may go everywhere.
func (l *Landscape) OnPath(lane, environment string) bool {
	if l.Free() {
		return true
	}
	for _, e := range l.Members(lane) {
		if e.Name == environment || l.reached(e.Name)[environment] {
			return true
		}
	}
	return len(l.Members(lane)) == 0
}

// Outside lists the environments that are no part of the pipeline, where there is one.
func (l *Landscape) Outside() (names []string) {
	if l.Free() {
		return nil
	}
	for _, e := range l.Manifest.Environments {
		if len(l.on[e.Name])+len(l.into[e.Name]) == 0 {
			names = append(names, e.Name)
		}
	}
	return names
}

// LaneOf gives the lane whose work a branch holds; empty for none. What was captured in an
// environment is work of its lane.
func (l *Landscape) LaneOf(branch string) string {
	if name, ok := ledger.LineOf(branch); ok {
		name, _, _ = strings.Cut(name, "@") // of a workspace's own
		e, err := l.Manifest.Environment(name)
		if err != nil {
			return ""
		}
		return e.Lane
	}
	for _, lane := range l.Manifest.Pipeline.Lanes {
		if lane.Branch == branch {
			return lane.Name
		}
	}
	for _, e := range l.Manifest.Environments {
		if e.Branch == branch && e.Lane != "" {
			return e.Lane
		}
	}
	return ""
}

// Shared reports whether a branch is that of an environment which lanes share.
func (l *Landscape) Shared(branch string) bool {
	return slices.ContainsFunc(l.Manifest.Environments, func(e manifest.Environment) bool {
		return e.Lane == "" && l.Manifest.BranchOf(e) == branch
	})
}

// LanesOf lists the lanes that somebody develops in.
func (l *Landscape) LanesOf(person string) []string {
	var out []string
	for _, lane := range l.Manifest.Pipeline.Lanes {
		if l.Manifest.Team.Plays(person, lane.Developers) {
			out = append(out, lane.Name)
		}
	}
	return out
}

// Staged lists the environments that belong to the pipeline: they have a tier or a lane,
// or a move speaks of them.
func (l *Landscape) Staged() []manifest.Environment {
	var out []manifest.Environment
	for _, e := range l.Manifest.Environments {
		if e.Tier != "" || e.Lane != "" || len(l.on[e.Name])+len(l.into[e.Name]) > 0 {
			out = append(out, e)
		}
	}
	return out
}

// Gates lists the names of the gates of a move, those of its target with them.
func (l *Landscape) Gates(m manifest.Move) []string {
	out := slices.Clone(m.Gates)
	if to, err := l.Manifest.Environment(m.To); err == nil {
		for _, g := range to.Gates {
			if !slices.Contains(out, g) {
				out = append(out, g)
			}
		}
	}
	return out
}

// Column gives the place of each environment from left to right: a move leads to the
// right, and a tier stands no further left than the one before it. Where moves go in a
// circle, those on it stand where they are first met.
func (l *Landscape) Column() map[string]int {
	out := map[string]int{}
	tiers := map[manifest.Tier]bool{}
	for _, e := range l.Manifest.Environments {
		tiers[e.Tier] = true
	}
	at := map[manifest.Tier]int{}
	for _, t := range manifest.Tiers {
		if tiers[t] {
			at[t] = len(at)
		}
	}
	for _, e := range l.Manifest.Environments {
		out[e.Name] = at[e.Tier]
	}
	for range l.Manifest.Environments { // as often as the longest path may need
		moved := false
		for _, m := range l.Manifest.Pipeline.Moves {
			from, ok1 := out[m.From]
			to, ok2 := out[m.To]
			if ok1 && ok2 && to <= from && !l.reached(m.To)[m.From] {
				out[m.To] = from + 1
				moved = true
			}
		}
		if !moved {
			break
		}
	}
	return out
}
