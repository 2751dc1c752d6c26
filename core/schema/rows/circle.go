package rows

import (
	"slices"
	"strings"

	"oakenchest/core/schema/step"
)

// circles parts tables, in their order, into those that refer to each other, directly or by way
// of others: strongly connected components (Tarjan, "Depth-First Search and Linear Graph
// Algorithms", 1972). A table that refers to nothing of its own is alone in one.
func circles(list []Wanted) [][]Wanted {
	t := &tarjan{list: list, index: map[string]int{}, low: map[string]int{}, on: map[string]bool{}}
	for _, w := range list {
		if _, seen := t.index[w.Table.SQL]; !seen {
			t.visit(w)
		}
	}
	return t.out
}

type tarjan struct {
	list       []Wanted
	index, low map[string]int
	on         map[string]bool
	stack      []string
	out        [][]Wanted
}

func (t *tarjan) visit(w Wanted) {
	name := w.Table.SQL
	t.index[name], t.low[name] = len(t.index), len(t.index)
	t.stack, t.on[name] = append(t.stack, name), true
	for _, o := range t.list {
		to := o.Table.SQL
		if !slices.Contains(w.Table.Refers, to) {
			continue
		}
		if _, seen := t.index[to]; !seen {
			t.visit(o)
			t.low[name] = min(t.low[name], t.low[to])
		} else if t.on[to] {
			t.low[name] = min(t.low[name], t.index[to])
		}
	}
	if t.low[name] != t.index[name] {
		return
	}
	at := slices.Index(t.stack, name)
	var circle []Wanted
	for _, o := range t.list { // a table may be there several times
		if slices.Contains(t.stack[at:], o.Table.SQL) {
			circle = append(circle, o)
		}
	}
	for _, n := range t.stack[at:] {
		t.on[n] = false
	}
	t.stack = t.stack[:at]
	t.out = append(t.out, circle)
}

// links gives the foreign keys within a circle.
func links(circle []Wanted) (out []Link) {
	for _, w := range circle {
		for _, l := range w.Links {
			if slices.ContainsFunc(circle, func(o Wanted) bool { return o.Table.SQL == l.To }) {
				out = append(out, l)
			}
		}
	}
	return out
}

// loosely makes one step of those of a circle, in which its foreign keys are looked at in the end.
func loosely(steps []step.Step, links []Link) []step.Step {
	if len(links) == 0 || len(steps) == 0 {
		return steps
	}
	one := steps[0]
	var what, lost []string
	one.Statements, one.Saves = nil, nil
	gather := func(of func(Link) []string) {
		seen := map[string]bool{}
		for _, l := range links {
			for _, sql := range of(l) {
				if !seen[sql] {
					one.Statements, seen[sql] = append(one.Statements, sql), true
				}
			}
		}
	}
	gather(func(l Link) []string { return l.Loosen })
	for _, s := range steps {
		text := s.What
		if len(steps) > 1 {
			text = s.Address.Steps[len(s.Address.Steps)-1].Key + ": " + s.What
		}
		what = append(what, text)
		if s.Loss != "" {
			lost, one.Effect = append(lost, s.Loss), step.Loses
		}
		one.Statements, one.Saves = append(one.Statements, s.Statements...), append(one.Saves, s.Saves...)
	}
	gather(func(l Link) []string { return l.Check })
	gather(func(l Link) []string { return l.Tighten })
	one.What, one.Loss = strings.Join(what, "; "), strings.Join(lost, ", ")
	return []step.Step{one}
}
