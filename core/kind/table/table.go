// Package table is the kind of tables in text: CSV (RFC 4180) and its relatives
// with semicolons or tabs.
//
// The first line names the columns, each an element of its own. A row is an element whose
// properties are its fields that are not empty; its key is the field of a column called id,
// key, code, number or name, or of the first one when its name ends so (tank_id). Rows with
// keys are a set: two people who add rows do not meet. Without, they are matched by
// likeness, in order.
//
// Writing leaves the text of every field, separator and line end that does not
// change as it was.
package table

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Limits of a table.
const (
	MaxSize    = 64 << 20
	MaxColumns = 4096
)

// Kind reads tables in text.
type Kind struct{}

var _ kind.Writer = Kind{}

// Name is "table".
func (Kind) Name() string { return "table" }

// About describes the kind.
func (Kind) About() string {
	return "tables in text, CSV and TSV: rows by key, fields by column"
}

// Claims takes files called .csv or .tsv whose first line names at least two
// columns.
func (Kind) Claims(p string, head []byte) bool {
	ext := strings.ToLower(path.Ext(p))
	if ext != ".csv" && ext != ".tsv" || bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	s := newScanner(string(head))
	first, err := s.record()
	return err == nil && (len(first.fields) > 1) && distinct(first.values())
}

func distinct(names []string) bool {
	seen := map[string]bool{}
	for _, n := range names {
		if strings.TrimSpace(n) == "" || seen[n] || strings.Contains(n, "\n") {
			return false
		}
		seen[n] = true
	}
	return true
}

// sheet is a table as it is written.
type sheet struct {
	mark    string // a byte-order mark, or nothing
	sep     byte
	columns []string
	records []record // the first names the columns
	keyed   bool
	key     int // the column with the keys
}

func parse(src kind.Source) (*sheet, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	switch {
	case len(data) > MaxSize:
		return nil, errors.New("it is longer than " + element.SizeText(MaxSize))
	case !utf8.Valid(data):
		return nil, errors.New("it is not UTF-8 text")
	}
	s := newScanner(string(data))
	t := &sheet{mark: s.mark, sep: s.sep}
	for !s.done() {
		r, err := s.record()
		if err != nil {
			return nil, err
		}
		t.records = append(t.records, r)
	}
	if len(t.records) == 0 {
		return nil, errors.New("it has no line that names the columns")
	}
	t.columns = t.records[0].values()
	if !distinct(t.columns) || len(t.columns) > MaxColumns {
		return nil, errors.New("its first line does not name the columns, each otherwise")
	}
	t.findKey()
	return t, nil
}

// keyNames are columns that hold keys, the likeliest first; keyEnds are ends of such names.
var (
	keyNames = []string{"id", "key", "code", "number", "name"}
	keyEnds  = []string{"id", "key", "code", "number"}
)

// findKey chooses the column with the keys, by the names of the columns alone: which one it
// is must not change with the rows.
func (t *sheet) findKey() {
	plain := make([]string, len(t.columns))
	for i, c := range t.columns {
		plain[i] = strings.ToLower(strings.TrimSpace(c))
	}
	for _, name := range keyNames {
		if c := slices.Index(plain, name); c >= 0 {
			t.keyed, t.key = true, c
			return
		}
	}
	for _, end := range keyEnds { // of the first column alone: others refer to other tables
		if before, ok := strings.CutSuffix(plain[0], end); ok && strings.ContainsAny(before[len(before)-1:], " _-.") {
			t.keyed = true
			return
		}
	}
}

// columnName names a field by its place; those beyond the named columns too.
func (t *sheet) columnName(i int) string {
	if i < len(t.columns) {
		return t.columns[i]
	}
	return fmt.Sprintf("column %d", i+1)
}

// header is the type, and its key, of the element that holds the columns.
const header = "columns"

func (t *sheet) tree() *element.Element {
	root := &element.Element{Type: "table", Ordered: !t.keyed}
	columns := &element.Element{Type: header, Key: header, Ordered: true, Firm: true}
	for _, c := range t.columns {
		columns.Add(&element.Element{Type: "column", Key: c})
	}
	root.Add(columns)
	for _, r := range t.records[1:] {
		root.Add(t.row(r))
	}
	if t.keyed {
		element.Distinguish(root.Children)
	}
	return root
}

// row gives the element of a line. A field without content is no property: a line may
// leave out its last ones.
func (t *sheet) row(r record) *element.Element {
	e := &element.Element{Type: "row"}
	for i, f := range r.fields {
		if v := unquote(f); v != "" {
			e.Props = append(e.Props, element.Prop{Name: t.columnName(i), Value: element.TextValue(v)})
		}
	}
	if t.keyed && t.key < len(r.fields) {
		e.Key = unquote(r.fields[t.key])
	}
	var gist []string
	for i, f := range r.fields[:min(len(r.fields), 4)] {
		if !t.keyed || i != t.key {
			gist = append(gist, unquote(f))
		}
	}
	e.Gist = strings.Join(gist, ", ")
	return e
}

// Weigh counts rows, which take more than elements elsewhere, and a little for each cell.
func (Kind) Weigh(data []byte) int64 {
	const cells = 6 // that take as much as an element
	return kind.Count(data, "\n")*2 + kind.Count(data, ",;\t|")/cells
}

// Read reads a table.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	t, err := parse(src)
	if err != nil {
		return nil, err
	}
	root := t.tree()
	seen := map[string]bool{}
	for i := range t.columns {
		seen[t.columnName(i)] = true
	}
	for _, r := range t.records {
		for i := len(t.columns); i < len(r.fields); i++ {
			if seen[t.columnName(i)] {
				return nil, fmt.Errorf("a line has more fields than there are columns, and a column is called %q", t.columnName(i))
			}
		}
	}
	root.Gist = element.Counted(len(t.columns), "column")
	return &kind.Reading{Root: root}, nil
}
