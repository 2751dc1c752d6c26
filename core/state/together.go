package state

import (
	"slices"

	"oakenchest/core/element"
)

// companions keeps files that must travel together on one side: when one of them can't be
// merged, the choice for it is the choice for all, and there is one conflict. The first of
// a group in conflict speaks for it.
func (g *merge) companions() {
	if len(g.r.Manifest.Companions) == 0 {
		return
	}
	for _, p := range g.paths() {
		group := []string{p}
		for _, c := range g.r.Manifest.CompanionsOf(p) {
			if isFile(g.b, c) || isFile(g.m, c) || isFile(g.t, c) {
				group = append(group, c)
			}
		}
		i := slices.IndexFunc(group, func(q string) bool { _, whole := g.whole[q]; return whole })
		if len(group) < 2 || i < 0 {
			continue
		}
		speaker := group[i]
		for _, q := range group {
			if q != speaker {
				g.goWith(q, speaker)
			}
		}
	}
}

// goWith lets a file take the side that another one takes.
func (g *merge) goWith(q, speaker string) {
	g.out.Conflicts = slices.DeleteFunc(g.out.Conflicts, func(c element.Conflict) bool { return c.Address.Path == q })
	g.done[q] = true
	delete(g.edits, q)
	switch g.whole[speaker] {
	case element.KeepTheirs:
		g.take(q, g.t.files[q])
	case element.KeepBase:
		g.take(q, g.b.files[q])
	case element.KeepBoth:
		if f := g.t.files[q]; f.Mode != 0 && !f.Same(g.m.files[q]) {
			g.take(beside(q, g.m), f)
		}
	}
}
