package page

import (
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind/scene"
	"oakenchest/core/state"
)

// nodeTable lists the nodes of a scene, with what changed in them.
type nodeTable struct {
	Columns []string
	Rows    []nodeRow
	Same    int // how many of the rows are of nodes that did not change
	More    int
}

type nodeRow struct {
	Name  string
	Word  string // added, removed, edited; empty for one that did not change
	Cells []nodeCell
}

type nodeCell struct {
	From, To []piece // alike when nothing changed; From is empty then
}

// nodeColumns are the properties of a node that the table shows.
var nodeColumns = []string{"parent", "mesh", "translation", "rotation", "scale"}

// mostNodes bounds the rows.
const mostNodes = 400

// nodes makes the table of a scene; nil for other kinds, and for a scene of which
// one version is missing.
func nodes(a Artifact) *nodeTable {
	if a.Kind != "scene" || a.Was == nil || a.Is == nil {
		return nil
	}
	before, after := nodesOf(a.Was), nodesOf(a.Is)
	var names []string
	for n := range before {
		names = append(names, n)
	}
	for n := range after {
		if before[n] == nil {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	t := &nodeTable{Columns: nodeColumns}
	var same []nodeRow
	for _, n := range names {
		r := nodeRowOf(n, before[n], after[n])
		if r.Word == "" {
			same = append(same, r)
		} else {
			t.Rows = append(t.Rows, r)
		}
	}
	t.Same = len(same)
	t.Rows = append(t.Rows, same...)
	if len(t.Rows) > mostNodes {
		t.More = len(t.Rows) - mostNodes
		t.Rows = t.Rows[:mostNodes]
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return t
}

func nodesOf(a *state.Artifact) map[string]*element.Element {
	out := map[string]*element.Element{}
	for _, e := range a.Reading.Root.Children {
		if e.Type == "node" {
			out[e.Key] = e
		}
	}
	return out
}

func nodeRowOf(name string, was, is *element.Element) nodeRow {
	r := nodeRow{Name: name}
	switch {
	case was == nil:
		r.Word = "added"
		was = &element.Element{}
	case is == nil:
		r.Word = "removed"
		is = &element.Element{}
	case was.Sum() != is.Sum():
		r.Word = "edited"
	}
	for _, c := range nodeColumns {
		from, to := cellText(c, was.Prop(c)), cellText(c, is.Prop(c))
		if from == to {
			r.Cells = append(r.Cells, nodeCell{To: []piece{{Text: to}}})
			continue
		}
		cell := nodeCell{To: []piece{{Text: to, Marked: true}}}
		if from != "" {
			cell.From = []piece{{Text: from, Marked: true}}
		}
		r.Cells = append(r.Cells, cell)
	}
	return r
}

func cellText(property string, v element.Value) string {
	if v.IsAbsent() {
		return ""
	}
	if text := (scene.Kind{}).Say(property, v); text != "" {
		return text
	}
	return shorten(v.String())
}
