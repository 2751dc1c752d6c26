package workbook

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/linked"
)

// sheetWriter writes the rows of one sheet: what stays is as it was.
type sheetWriter struct {
	*writer
	data *element.Element            // as it was, empty for a new sheet
	was  map[string]*element.Element // of the view, by type and key
	raw  map[string]*element.Element // of the part, alike
	rows map[int]*element.Element
	// apart are the formulas, by number, that cells shared and do no more.
	apart map[string]bool
}

func (w *writer) sheetWriter(part string) *sheetWriter {
	s := &sheetWriter{w, &element.Element{Type: "sheetData", Ordered: true, Firm: true}, map[string]*element.Element{},
		map[string]*element.Element{}, map[int]*element.Element{}, map[string]bool{}}
	at := slices.IndexFunc(w.sheets, func(x sheet) bool { return x.part == part })
	if at < 0 {
		return s
	}
	for _, e := range w.have.Children {
		if e.Type == "sheet" && e.Key == w.sheets[at].name {
			for _, c := range e.Children {
				s.was[c.Type+" "+c.Key] = c
			}
		}
	}
	if data := child(linked.Root(w.book.raw, part), "sheetData"); data != nil {
		s.data = data
		for _, row := range data.Children {
			s.raw["row "+row.Prop("r").Text()] = row
			for _, c := range row.Children {
				s.raw["cell "+c.Prop("r").Text()] = c
			}
		}
	}
	return s
}

// row gives a row to put cells into.
func (s *sheetWriter) row(n int) *element.Element {
	if r := s.rows[n]; r != nil {
		return r
	}
	number := strconv.Itoa(n)
	r := &element.Element{Type: "row", Key: number, Ordered: true, Firm: true}
	if old := s.raw["row "+number]; old != nil {
		*r = *old
		r.Children = nil
	} else {
		r.Props = []element.Prop{{Name: "r", Value: element.TextValue(number)}}
	}
	r.Set("spans", element.Value{})
	s.rows[n] = r
	return r
}

// write gives the data of the sheet.
func (s *sheetWriter) write(want *element.Element) (*element.Element, error) {
	wanted := map[string]bool{}
	s.share(want)
	for _, e := range want.Children {
		wanted[e.Type+" "+e.Key] = true
		if err := s.put(e); err != nil {
			return nil, err
		}
	}
	s.silent(wanted)
	out := *s.data
	out.Children = nil
	for _, r := range s.rows {
		slices.SortFunc(r.Children, func(a, b *element.Element) int {
			x, _, _ := place(a.Prop("r").Text())
			y, _, _ := place(b.Prop("r").Text())
			return x - y
		})
		out.Children = append(out.Children, r)
	}
	slices.SortFunc(out.Children, func(a, b *element.Element) int {
		x, _ := strconv.Atoi(a.Prop("r").Text())
		y, _ := strconv.Atoi(b.Prop("r").Text())
		return cmp.Compare(x, y)
	})
	return &out, nil
}

// share finds the formulas that cells share no more: one of them has changed.
func (s *sheetWriter) share(want *element.Element) {
	same := map[string]bool{}
	for _, e := range want.Children {
		old := s.was[e.Type+" "+e.Key]
		same[e.Type+" "+e.Key] = old != nil && old.Prop(formulaProperty).Equal(e.Prop(formulaProperty))
	}
	for key, c := range s.raw {
		if n := sharedNumber(c); n != "" && !same[key] {
			s.apart[n] = true
		}
	}
}

// sharedNumber gives the number of the formula that a cell shares, empty for none.
func sharedNumber(c *element.Element) string {
	if c == nil {
		return ""
	}
	f := child(c, "f")
	if f == nil || f.Prop("t").Text() != "shared" {
		return ""
	}
	return f.Prop("si").Text()
}

// put writes a row or a cell of the view.
func (s *sheetWriter) put(e *element.Element) error {
	key := e.Type + " " + e.Key
	old := s.was[key]
	same := old != nil && old.Sum() == e.Sum()
	switch e.Type {
	case "row":
		n, err := strconv.Atoi(e.Key)
		if err != nil || n < 1 {
			return fmt.Errorf("%s is no row", e.Key)
		}
		if r := s.row(n); !same {
			return s.rowProps(r, e)
		}
	case "cell":
		_, n, ok := place(e.Key)
		if !ok {
			return fmt.Errorf("%s is no cell", e.Key)
		}
		c := s.raw[key]
		if s.apart[sharedNumber(c)] {
			old, same = nil, false
		}
		if !same {
			var err error
			if c, err = s.cell(e, old, c); err != nil {
				return fmt.Errorf("%s: %w", e.Key, err)
			}
		}
		s.row(n).Children = append(s.row(n).Children, s.withoutResult(c))
	}
	return nil
}

// silent puts back the rows and cells that say nothing in the view.
func (s *sheetWriter) silent(wanted map[string]bool) {
	for key, e := range s.raw {
		if s.was[key] != nil || wanted[key] {
			continue
		}
		if number, ok := strings.CutPrefix(key, "row "); ok {
			if n, err := strconv.Atoi(number); err == nil && len(e.Children) == 0 {
				s.row(n)
			}
		} else if _, n, ok := place(strings.TrimPrefix(key, "cell ")); ok {
			s.row(n).Children = append(s.row(n).Children, e)
		}
	}
}

// withoutResult takes what is stored of a formula away once some cell has changed.
func (s *sheetWriter) withoutResult(c *element.Element) *element.Element {
	if !s.stale || child(c, "f") == nil || child(c, "v") == nil {
		return c
	}
	out := *c
	out.Props = slices.DeleteFunc(slices.Clone(c.Props), func(p element.Prop) bool { return p.Name == "t" })
	out.Children = slices.DeleteFunc(slices.Clone(c.Children), func(k *element.Element) bool { return k.Type == "v" })
	return &out
}
