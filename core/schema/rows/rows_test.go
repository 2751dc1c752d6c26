package rows

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

func sheet(t *testing.T, text string) *Sheet {
	t.Helper()
	s, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestNullAndEmptyTextDiffer(t *testing.T) {
	s := sheet(t, "\ufeffid,note\r\n1,\r\n2,\"\"\n3,\"a \"\"b\"\"\nc\"\n4, x\n")
	want := []Value{{Null: true}, {Text: ""}, {Text: "a \"b\"\nc"}, {Text: " x"}}
	for i, w := range want {
		if s.Rows[i][1] != w {
			t.Errorf("row %d has %+v, not %+v", i, s.Rows[i][1], w)
		}
	}
	if s.Line(3) != 6 {
		t.Errorf("the last row is on line %d", s.Line(3))
	}
	if got := string(s.Bytes()); got != "id,note\n1,\n2,\"\"\n3,\"a \"\"b\"\"\nc\"\n4, x\n" {
		t.Errorf("written as %q", got)
	}
}

func TestBadFilesTellTheLine(t *testing.T) {
	for text, want := range map[string]string{
		"": "line 1: the line with the names", "a,,b\n": "line 1: a column has no name", "a,a\n": "line 1: the column a is there twice",
		"a,b\n1\n": "line 2: there are 1 fields, and 2 columns", "a\n\"x\ny\n": "line 2: a value in quotes does not end",
		"a\n\"x\"y\n": "line 2: a comma is missing",
		"a\nx\"y\n":   "line 2: a value with a quote", "a\n\xff\n": "not UTF-8",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for text, want := range map[string]string{"a,b\n1,2\n,3\n": "line 3: a belongs to the table's key",
		"a,b\n2,x\n1,x\n2,y\n": "line 4: the key 2 is there twice", "b\n1\n": "line 1: the column a is missing"} {
		if err := sheet(t, text).Sort([]string{"a"}); err == nil || err.Error()[:len(want)] != want {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestKeysAreInOneOrder(t *testing.T) {
	list := []string{"b", "10", "9", "-3", "a", "09", "-20", "", "1x", "0"}
	slices.SortFunc(list, compareTexts)
	if got := strings.Join(list, " "); got != "-20 -3 0 09 9 10  1x a b" {
		t.Errorf("sorted as %q", got)
	}
	two := sheet(t, "a,b,c\n\"x, y\",z,1\nx,\"y, z\",2\n")
	e, err := two.Element("t", []string{"a", "b"})
	if err != nil || e.Children[0].Key == e.Children[1].Key {
		t.Errorf("two keys read alike: %v, %v", e, err)
	}
}

// TestDifferencesLeadFromOneToTheOther makes random sheets and carries the differences out.
func TestDifferencesLeadFromOneToTheOther(t *testing.T) {
	r := rand.New(rand.NewPCG(rand.Uint64(), 1))
	random := func() *Sheet {
		s := &Sheet{Columns: []string{"id", "v", "w"}}
		for i := range 30 {
			if r.IntN(3) > 0 {
				s.Rows = append(s.Rows, Row{{Text: strings.Repeat("1", 1+i%3) + string(rune('a'+i))}, {Text: string(rune('a' + r.IntN(2)))},
					{Null: r.IntN(2) == 0}})
			}
		}
		if err := s.Sort([]string{"id"}); err != nil {
			t.Fatal(err)
		}
		return s
	}
	for range 200 {
		have, want := random(), random()
		d, err := Compare(have, want, []string{"id"})
		if err != nil {
			t.Fatal(err)
		}
		got := &Sheet{Columns: have.Columns}
		for i, row := range have.Rows {
			if !slices.Contains(d.Removed, i) {
				row = slices.Clone(row)
				for _, e := range d.Edited {
					for _, c := range e.Columns {
						if e.Have == i {
							row[c] = want.Rows[e.Want][c]
						}
					}
				}
				got.Rows = append(got.Rows, row)
			}
		}
		for _, i := range d.Added {
			got.Rows = append(got.Rows, want.Rows[i])
		}
		if err := got.Sort([]string{"id"}); err != nil || string(got.Bytes()) != string(want.Bytes()) {
			t.Fatalf("%v\n%s\nis not\n%s", err, got.Bytes(), want.Bytes())
		}
		e, _ := want.Element("t", []string{"id"})
		back, err := FromElement(e, []string{"id"})
		if err != nil || string(back.Bytes()) != string(want.Bytes()) {
			t.Fatalf("as an element it becomes %v\n%s", err, back.Bytes())
		}
	}
}

var kinds = Table{Name: "kind", Bare: "kind", SQL: "kind", File: "rows/kind.csv", Key: []string{"id"},
	Unique: []Unique{{Columns: []string{"code"}, Drop: "drop it", Add: "add it"}},
	Columns: []Column{{Name: "id", SQL: "id", Literal: quoted}, {Name: "code", SQL: "code", Literal: quoted},
		{Name: "above", SQL: "above", Literal: quoted}}}

func quoted(s string) string { return "'" + s + "'" }

func planned(t *testing.T, from, to string) string {
	t.Helper()
	w := Wanted{Table: kinds, Live: "kind", Have: sheet(t, "id,code,above\n"+from), Want: sheet(t, "id,code,above\n"+to)}
	var err error
	if w.Diff, err = Compare(w.Have, w.Want, kinds.Key); err != nil {
		t.Fatal(err)
	}
	var out []string
	write, remove := Plan([]Wanted{w})
	for _, s := range append(write, remove...) {
		out = append(out, append([]string{"-- " + s.What}, s.Statements...)...)
	}
	return strings.ReplaceAll(strings.Join(out, "\n"), "\n  ", " ")
}

func TestStatementsMakeRoomForEachOther(t *testing.T) {
	for _, c := range []struct{ name, from, to, want string }{
		{"add, change, remove", "1,a,\n2,b,\n", "1,x,\n3,c,1\n",
			"-- add 1 row, change 1 row\ninsert into kind (id, code, above) values ('3', 'c', '1')\n" +
				"update kind set code = 'x' where id = '1'\n-- remove 1 row\ndelete from kind where id = '2'"},
		{"a place is taken over", "1,a,\n2,b,\n", "1,b,\n2,c,\n",
			"-- change 2 rows\nupdate kind set code = 'c' where id = '2'\nupdate kind set code = 'b' where id = '1'"},
		{"a removed row's place", "1,a,\n", "2,a,\n",
			"-- remove 1 row, add 1 row\ndelete from kind where id = '1'\ninsert into kind (id, code, above) values ('2', 'a', null)"},
		{"an exchange", "1,a,\n2,b,\n", "1,b,\n2,a,\n",
			"-- change 2 rows\ndrop it\nupdate kind set code = 'a' where id = '2'\nupdate kind set code = 'b' where id = '1'\nadd it"},
		{"nothing", "1,a,\n", "1,a,\n", ""},
	} {
		if got := planned(t, c.from, c.to); got != c.want {
			t.Errorf("%s:\n%s", c.name, got)
		}
	}
}

func TestTablesFollowWhatTheyReferTo(t *testing.T) {
	list := []Wanted{{Table: Table{Name: "a", SQL: "a", Refers: []string{"b"}}},
		{Table: Table{Name: "b", SQL: "b", Refers: []string{"c", "a"}}}, {Table: Table{Name: "c", SQL: "c"}}}
	var got []string
	for _, w := range ordered(list) {
		got = append(got, w.Table.Name)
	}
	if strings.Join(got, " ") != "c b a" {
		t.Errorf("ordered as %v", got)
	}
}

func TestFilesOfRowsInAFolder(t *testing.T) {
	files := declared.Files{"rows/kind.csv": []byte("id,code\n2,b\n1,a\n"), "tables/kind.sql": []byte("create table kind")}
	root := &element.Element{Type: "schema"}
	if err := Attach(root, files, []Table{kinds}, nil); err != nil {
		t.Fatal(err)
	}
	out, err := Update(files, root, []Table{kinds})
	if err != nil || len(out) != 0 {
		t.Errorf("nothing has changed, and %q is written (%v)", out, err)
	}
	root.Children[0].Children[0].Set("code", element.TextValue("x"))
	if out, err = Update(files, root, []Table{kinds}); err != nil || string(out["rows/kind.csv"]) != "id,code\n1,x\n2,b\n" {
		t.Errorf("written %q (%v)", out, err)
	}
	if out, err = Update(files, Without(root), []Table{kinds}); err != nil || len(out) != 1 || out["rows/kind.csv"] != nil {
		t.Errorf("without rows, written %q (%v)", out, err)
	}
	for name, text := range map[string]string{"rows/other.csv": "id\n", "rows/kind.csv": "id,nothing\n"} {
		if err := Attach(root, declared.Files{name: []byte(text)}, []Table{kinds}, nil); err == nil ||
			!strings.HasPrefix(err.Error(), name+", line 1: ") {
			t.Errorf("%s: %v", name, err)
		}
	}
	bare := kinds
	bare.Key = nil
	if err := Attach(root, files, []Table{bare}, nil); err == nil || !strings.Contains(err.Error(), "no primary key") {
		t.Errorf("a table without key: %v", err)
	}
}

func TestNumbersStandBare(t *testing.T) {
	for in, want := range map[string]string{"5": "5", "-12.50": "-12.50", "0": "0", "-0": "'-0'", "-0.0": "'-0.0'", "1e3": "'1e3'",
		"NaN": "'NaN'", "1.": "'1.'", ".5": "'.5'", "123456789012345678": "'123456789012345678'", "": "''", "1 or 1": "'1 or 1'"} {
		if got := Number(quoted)(in); got != want {
			t.Errorf("%q is written %s, not %s", in, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a,b\n1,\n\"\",\"x\ny\"\n", "a\r\n1\r\n", "\ufeffa\n\"\"\"\"", "a\n\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := Parse(data)
		if err != nil {
			return
		}
		again, err := Parse(s.Bytes())
		if err != nil || !slices.Equal(s.Columns, again.Columns) ||
			!slices.EqualFunc(s.Rows, again.Rows, func(a, b Row) bool { return slices.Equal(a, b) }) {
			t.Errorf("%q reads otherwise when written again: %v", data, err)
		}
	})
}
