package table

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Write gives the table with the wanted rows and columns.
func (k Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	t, err := parse(src)
	if err != nil {
		return nil, err
	}
	d := element.Compare(t.tree(), want)
	if d == nil {
		return nil, nil
	}
	w, err := t.writer(want)
	if err != nil {
		return nil, err
	}
	places := make([]int, len(w.columns))
	for i, c := range w.columns {
		if at, was := w.place[c]; was {
			places[i] = at
		} else {
			places[i] = -1
		}
	}
	w.record(t.records[0], w.columns, places)
	kids := d.Kids
	if len(kids) == 0 {
		for i := range want.Children {
			kids = append(kids, element.KidEdit{From: i, To: i})
		}
	}
	for _, e := range kids {
		if e.To < 0 || want.Children[e.To].Type == header {
			continue
		}
		old := record{end: w.end}
		if e.From >= 0 { // the first child holds the columns, as the first line does
			old = t.records[e.From]
		}
		if e.From >= 0 && e.Delta == nil && slices.Equal(w.columns, t.columns) {
			w.record(old, old.values(), nil)
			continue
		}
		if err := w.row(old, want.Children[e.To]); err != nil {
			return nil, err
		}
	}
	return map[string][]byte{src.Files()[0]: []byte(w.text())}, nil
}

// writer writes rows of a table that may have other columns than before.
type writer struct {
	t       *sheet
	columns []string
	place   map[string]int // of a former column, by its name
	end     string         // how new lines end
	out     strings.Builder
	ended   bool // the last line is
	open    bool // the last line of all has no end, as before
}

func (t *sheet) writer(want *element.Element) (*writer, error) {
	w := &writer{t: t, place: map[string]int{}, end: "\n", ended: true, open: t.records[len(t.records)-1].end == ""}
	for _, e := range want.Children {
		if e.Type != header {
			continue
		}
		for _, c := range e.Children {
			w.columns = append(w.columns, c.Key)
		}
	}
	if !distinct(w.columns) || len(w.columns) == 0 {
		return nil, errors.New("the columns of a table have distinct names")
	}
	for i, c := range t.columns {
		w.place[c] = i
	}
	if t.records[0].end == "\r\n" {
		w.end = "\r\n"
	}
	w.out.WriteString(t.mark)
	return w, nil
}

// record writes the values of a line; was are those of the old one, by place: a
// field that does not change keeps its text.
func (w *writer) record(old record, values []string, from []int) {
	if !w.ended {
		w.out.WriteString(w.end)
	}
	for i, v := range values {
		if i > 0 {
			w.out.WriteByte(w.t.sep)
		}
		place := i
		if from != nil {
			place = from[i]
		}
		switch {
		case place < 0 || place >= len(old.fields):
			w.out.WriteString(quote(v, w.t.sep, false))
		case unquote(old.fields[place]) == v:
			w.out.WriteString(old.fields[place])
		default:
			w.out.WriteString(quote(v, w.t.sep, strings.HasPrefix(old.fields[place], `"`)))
		}
	}
	w.out.WriteString(old.end)
	w.ended = old.end != ""
}

// row writes a row.
func (w *writer) row(old record, want *element.Element) error {
	left := map[string]string{}
	for _, p := range want.Props {
		left[p.Name] = p.Value.Text()
	}
	var values []string
	var from []int
	least := len(w.columns) // a line is no shorter than the others, unless it was
	if len(old.fields) > 0 && len(old.fields) < len(w.t.columns) {
		least = 0
		for i, c := range w.columns {
			if at, was := w.place[c]; was && at < len(old.fields) {
				least = i + 1
			}
		}
	}
	for i := 0; i < least || len(left) > 0; i++ {
		name, place := fmt.Sprintf("column %d", i+1), i
		if i < len(w.columns) {
			name = w.columns[i]
			if at, ok := w.place[name]; ok {
				place = at
			} else {
				place = -1
			}
		} else {
			place = i - len(w.columns) + len(w.t.columns)
		}
		values, from = append(values, left[name]), append(from, place)
		delete(left, name)
		if i > MaxColumns {
			return errors.New("a row has too many fields")
		}
	}
	if w.t.keyed {
		k := slices.Index(w.columns, w.t.columns[w.t.key])
		if k < 0 || rootKey(want.Key) != values[k] && want.Key != values[k] {
			return errors.New("a row's key is the field of its column")
		}
	}
	if len(values) == 0 {
		return errors.New("a row has no field")
	}
	w.record(old, values, from)
	return nil
}

// rootKey gives the key that a copy shares with others.
func rootKey(key string) string {
	if i := strings.LastIndexByte(key, '~'); i >= 0 {
		return key[:i]
	}
	return key
}

// text gives the table, with its last line ended or not as before.
func (w *writer) text() string {
	out := w.out.String()
	switch {
	case w.open && w.ended:
		// an empty line is one by its end alone
		if last := strings.TrimSuffix(strings.TrimSuffix(out, "\n"), "\r"); !strings.HasSuffix(last, "\n") {
			out = last
		}
	case !w.open && !w.ended:
		out += w.end
	}
	return out
}
