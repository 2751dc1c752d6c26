package table

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func source(text string) kind.Source {
	return kind.FileSource{Name: "tanks.csv", Data: []byte(text)}
}

func read(t *testing.T, text string) *element.Element {
	t.Helper()
	r, err := Kind{}.Read(source(text))
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return r.Root
}

func write(t *testing.T, text string, want *element.Element) string {
	t.Helper()
	files, err := Kind{}.Write(source(text), want, nil)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	if files == nil {
		return text
	}
	return string(files["tanks.csv"])
}

const tanks = "\ufeffid;name;litres\r\n1;\"Reef\";42000\r\n2;\"Kelp; forest\";31000\r\n3;Jellies;\r\n"

func TestATableIsReadByItsKeys(t *testing.T) {
	root := read(t, tanks)
	if root.Ordered || len(root.Children) != 4 || root.Children[2].Key != "2" || root.Children[2].Prop("name").Text() != "Kelp; forest" ||
		!root.Children[3].Prop("litres").IsAbsent() || len(root.Children[0].Children) != 3 {
		t.Errorf("%s", root.Dump())
	}
	for text, keys := range map[string]string{
		"name,litres\nReef,1\nKelp,2\n": "Reef Kelp", "litres,name\n1,Reef\n1,Kelp\n": "Reef Kelp", "a,b\n1,2\n1,3\n": " ",
		"a\tb\nx\ty": "", "a,id\n1,\n2,3\n": " 3", "tank_id,n\n7,1\n8,1\n": "7 8", "id,n\n1,a\n1,b\n": "1 1~2", "a,\"b\nc\"\n": "-",
	} {
		if !(Kind{}).Claims("x.csv", []byte(text)) {
			if keys != "-" {
				t.Errorf("%q is not claimed", text)
			}
			continue
		}
		var got []string
		for _, k := range read(t, text).Children[1:] {
			got = append(got, k.Key)
		}
		if strings.Join(got, " ") != keys {
			t.Errorf("%q has the keys %q, want %q", text, got, keys)
		}
	}
	for _, bad := range []string{"", "a,a\n1,2\n", "a,b\n\"1,2\n", "a,b\n1,2\"x\n", "a,b\n\"1\"x,2\n", "a,\n"} {
		if _, err := (Kind{}).Read(source(bad)); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func TestOnlyWhatChangesIsWrittenAnew(t *testing.T) {
	root := read(t, tanks)
	row := func(id, name, litres string) *element.Element {
		e := &element.Element{Type: "row", Key: id}
		e.Set("id", element.TextValue(id))
		e.Set("name", element.TextValue(name))
		e.Set("litres", element.TextValue(litres))
		return e
	}
	edited := root.Clone()
	edited.Children[1].Set("name", element.TextValue("The \"Reef\""))
	edited.Children[3].Set("litres", element.TextValue("2600"))
	edited.Children = append(slices.Delete(edited.Children, 2, 3), row("4", "Rays; sharks", "9"))
	want := "\ufeffid;name;litres\r\n1;\"The \"\"Reef\"\"\";42000\r\n3;Jellies;2600\r\n4;\"Rays; sharks\";9\r\n"
	if got := write(t, tanks, edited); got != want {
		t.Errorf("got %q\nwant %q", got, want)
	}
	columns := root.Clone()
	column := func(name string) *element.Element { return &element.Element{Type: "column", Key: name} }
	columns.Children[0].Children = []*element.Element{column("id"), column("keeper"), column("name")}
	for _, k := range columns.Children[1:] {
		k.Props = slices.DeleteFunc(k.Props, func(p element.Prop) bool { return p.Name == "litres" })
		k.Set("keeper", element.TextValue("Imke"))
	}
	if got := write(t, tanks, columns); got != "\ufeffid;keeper;name\r\n1;Imke;\"Reef\"\r\n2;Imke;\"Kelp; forest\"\r\n3;Imke;Jellies\r\n" {
		t.Errorf("other columns: %q", got)
	}
	if got := write(t, "a,b\n1,2", read(t, "a,b\n1,2\n3,4")); got != "a,b\n1,2\n3,4" {
		t.Errorf("a last line without an end: %q", got)
	}
	wrong := root.Clone()
	wrong.Children[1].Set("id", element.TextValue("9"))
	if _, err := (Kind{}).Write(source(tanks), wrong, nil); err == nil {
		t.Error("a row was written under another key than its own")
	}
}

func TestTwoPeopleAddRows(t *testing.T) {
	base, mine, theirs := "id,name\n1,Reef\n", "id,name\n1,Reef\n2,Kelp\n", "id,name\n1,The reef\n3,Jellies\n"
	merged, conflicts := element.Merge("x", read(t, base), read(t, mine), read(t, theirs), nil)
	if len(conflicts) > 0 {
		t.Fatalf("%v", conflicts)
	}
	got := write(t, mine, merged)
	for _, line := range []string{"1,The reef\n", "2,Kelp\n", "3,Jellies\n"} {
		if !strings.Contains(got, line) {
			t.Errorf("%q is not in %q", line, got)
		}
	}
	// A column against a row, and two columns: no line is shorter than the others.
	mine, theirs = "id,name,litres\n1,Reef,5\n", "id,depth,name\n1,9,Reef\n2,3,Kelp\n"
	merged, conflicts = element.Merge("x", read(t, base), read(t, mine), read(t, theirs), nil)
	if len(conflicts) > 0 {
		t.Fatalf("%v", conflicts)
	}
	if got := write(t, mine, merged); got != "id,depth,name,litres\n1,9,Reef,5\n2,3,Kelp,\n" {
		t.Errorf("got %q", got)
	}
}

// TestRandomEdits edits random tables, writes them, and reads them again.
func TestRandomEdits(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 7))
	values := []string{"", "x", "42", "with \"quotes\"", "a,b;c\td", "two\nlines", "Ünïcode", " spaced "}
	value := func() string { return values[r.IntN(len(values))] }
	field := func() element.Value { // an empty field is no property
		if v := value(); v != "" {
			return element.TextValue(v)
		}
		return element.Value{}
	}
	for round := range 400 {
		sep, end := []byte{',', ';', '\t'}[r.IntN(3)], []string{"\n", "\r\n"}[r.IntN(2)]
		names := []string{"id", "name", "litres"}[:2+r.IntN(2)]
		var b strings.Builder
		b.WriteString(strings.Join(names, string(sep)) + end)
		for i := range r.IntN(8) {
			fields := []string{fmt.Sprint("k", i)}
			if r.IntN(5) == 0 {
				fields[0] = `"` + fields[0] + `"`
			}
			for range names[1:] {
				fields = append(fields, quote(value(), sep, r.IntN(3) == 0))
			}
			b.WriteString(strings.Join(fields, string(sep)) + end)
		}
		text := b.String()
		if r.IntN(3) == 0 {
			text = strings.TrimSuffix(text, end)
		}
		want := read(t, text).Clone()
		touched := map[string]bool{}
		for act := range r.IntN(4) {
			switch n := len(want.Children) - 1; {
			case n > 0 && r.IntN(3) > 0:
				k := want.Children[1+r.IntN(n)]
				k.Set(names[1], field())
				touched[k.Key] = true
			case n > 0 && r.IntN(2) == 0 && want.Children[n].Type == "row":
				i := 1 + r.IntN(n)
				touched[want.Children[i].Key] = true
				want.Children = slices.Delete(want.Children, i, i+1)
			default:
				e := &element.Element{Type: "row", Key: fmt.Sprint("new", act)}
				for _, c := range names {
					e.Set(c, field())
				}
				e.Set("id", element.TextValue(e.Key))
				want.Children = slices.Insert(want.Children, 1+r.IntN(n+1), e)
			}
		}
		got := write(t, text, want)
		if d := element.Compare(read(t, got), want); d != nil && len(want.Children) > 0 {
			t.Fatalf("round %d: %q\nbecame %q: %v", round, text, got, d.Changes("x"))
		}
		s := newScanner(text)
		for !s.done() {
			begin := s.at
			rec, err := s.record()
			if err != nil {
				t.Fatal(err)
			}
			line := strings.TrimRight(text[begin:s.at], "\r\n")
			if key := unquote(rec.fields[0]); !touched[key] && !strings.Contains(got, line) {
				t.Fatalf("round %d: the line %q of %q is not in %q", round, line, text, got)
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(tanks)
	f.Add("a,b\n1,\"x\"\"y\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		src := source(text)
		r, err := Kind{}.Read(src)
		if err != nil {
			return
		}
		if files, err := (Kind{}).Write(src, r.Root, nil); err != nil || files != nil {
			t.Fatalf("writing an equal tree: %v, %v", files, err)
		}
		edited := r.Root.Clone()
		if len(edited.Children) < 2 {
			return
		}
		edited.Children = slices.Delete(edited.Children, 1, 2)
		files, err := Kind{}.Write(src, edited, nil)
		if err != nil {
			return
		}
		before, _ := parse(src)
		after, err := parse(source(string(files["tanks.csv"])))
		if err != nil || after.keyed != before.keyed || after.key != before.key {
			return // with other rows another column tells them apart
		}
		if element.Compare(after.tree(), edited) != nil {
			t.Fatalf("%q without its first row became %q", text, files["tanks.csv"])
		}
	})
}
