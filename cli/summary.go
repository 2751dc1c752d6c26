package cli

import (
	"cmp"
	"fmt"
	"slices"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/service/result"
)

// showSummary counts what is below an element.
func (a *App) showSummary(name, kind string, root *element.Element) {
	counts, props, deepest := map[string]*result.TypeCount{}, 0, 0
	var visit func(e *element.Element, depth int)
	visit = func(e *element.Element, depth int) {
		props, deepest = props+len(e.Props), max(deepest, depth)
		for _, k := range e.Children {
			c := counts[k.Type]
			if c == nil {
				c = &result.TypeCount{Type: k.Type}
				counts[k.Type] = c
			}
			c.Elements++
			if k.Key != "" {
				c.Keyed++
			}
			visit(k, depth+1)
		}
	}
	visit(root, 0)
	list, total := []result.TypeCount{}, 0
	for _, c := range counts {
		list, total = append(list, *c), total+c.Elements
	}
	slices.SortFunc(list, func(x, y result.TypeCount) int {
		return cmp.Or(cmp.Compare(y.Elements, x.Elements), cmp.Compare(x.Type, y.Type))
	})
	if a.JSON {
		a.print(result.Summary{Path: name, Kind: kind, About: root.Gist, Elements: total, Properties: props, Depth: deepest, Types: list})
		return
	}
	about := kind
	if root.Gist != "" {
		about += ", " + root.Gist
	}
	a.Say("%s  %s", a.Paint(screen.Strong, name), about)
	a.Say("  %s, %d properties, %d deep", screen.Count(total, "element"), props, deepest)
	var rows [][]screen.Cell
	for _, c := range list {
		keys := "all with keys"
		switch c.Keyed {
		case c.Elements:
		case 0:
			keys = "without keys"
		default:
			keys = fmt.Sprintf("%d with keys", c.Keyed)
		}
		rows = append(rows, []screen.Cell{screen.Plain.Cell(c.Type), screen.Plain.Cell(fmt.Sprint(c.Elements)), screen.Faint.Cell(keys)})
	}
	a.Table(a.Out, "  ", rows)
}
