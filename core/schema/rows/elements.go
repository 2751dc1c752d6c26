package rows

import (
	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// The types of the elements.
const (
	SheetType = "rows"
	RowType   = "row"
)

// Element gives a sheet as an element of a name: a row for each, by its key, with a
// property for each value that is not null. The sheet must be sorted.
func (s *Sheet) Element(name string, key []string) (*element.Element, error) {
	at, err := s.keyOf(key)
	if err != nil {
		return nil, err
	}
	e := &element.Element{Type: SheetType, Key: name, Firm: true, Gist: step.Counted(int64(len(s.Rows)), "row")}
	names := make([]element.Value, len(s.Columns))
	for i, c := range s.Columns {
		names[i] = element.TextValue(c)
	}
	e.Set("columns", element.ListValue(names...))
	kids, list := make([]element.Element, len(s.Rows)), make([]*element.Element, len(s.Rows))
	for i, r := range s.Rows {
		k := &kids[i]
		k.Type, k.Key, k.Firm = RowType, keyText(r, at), true
		k.Props = make([]element.Prop, 0, len(r))
		for c, v := range r {
			if !v.Null {
				k.Props = append(k.Props, element.Prop{Name: s.Columns[c], Value: element.TextValue(v.Text)})
			}
		}
		list[i] = k
	}
	e.Children = list
	return e, nil
}

// FromElement gives the sheet that an element says.
func FromElement(e *element.Element, key []string) (*Sheet, error) {
	s := &Sheet{}
	place := map[string]int{}
	for i, v := range e.Prop("columns").Items() {
		s.Columns = append(s.Columns, v.Text())
		place[v.Text()] = i
	}
	for _, k := range e.Children {
		r := make(Row, len(s.Columns))
		for i := range r {
			r[i].Null = true
		}
		for _, p := range k.Props {
			if i, ok := place[p.Name]; ok {
				r[i] = Value{Text: p.Value.Text()}
			}
		}
		s.Rows = append(s.Rows, r)
	}
	return s, s.Sort(key)
}

// Without gives a tree without the rows in it, for those that know only of schemas. What
// does not hold any is shared.
func Without(root *element.Element) *element.Element {
	changed := false
	var kids []*element.Element
	for _, k := range root.Children {
		if k.Type == SheetType {
			changed = true
			continue
		}
		n := k
		if k.Type == "schema" {
			n = Without(k)
			changed = changed || n != k
		}
		kids = append(kids, n)
	}
	if !changed {
		return root
	}
	out := *root
	out.Children = kids
	return &out
}
