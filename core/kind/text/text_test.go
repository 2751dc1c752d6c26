package text

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func read(t *testing.T, s string) (kind.FileSource, *element.Element) {
	t.Helper()
	src := kind.FileSource{Name: "a/notes.txt", Data: []byte(s)}
	r, err := Kind{}.Read(src)
	if err != nil {
		t.Fatal(err)
	}
	return src, r.Root
}

func TestWritingAnotherTreeGivesItsText(t *testing.T) {
	texts := []string{"", "\n", "one", "one\n", "one\ntwo\n", "one\r\ntwo\r\n", "one\r\ntwo\nthree", "\ufeffone\n\n\ntwo",
		"one\ntwo\nthree\n", "a\rb\n", "one\r"}
	for _, from := range texts {
		for _, to := range texts {
			src, _ := read(t, from)
			_, want := read(t, to)
			if want.Prop("line ends").Text() == "mixed" && from != to {
				continue // which line ended how is not part of the tree
			}
			files, err := Kind{}.Write(src, want, nil)
			got := from
			if files != nil {
				got = string(files["notes.txt"])
			}
			if err != nil || got != to {
				t.Errorf("%q to %q gave %q, %v", from, to, got, err)
			}
		}
	}
}

func TestAnEditKeepsTheEndsOfOtherLines(t *testing.T) {
	src, tree := read(t, "one\r\ntwo\nthree\r\n")
	want := tree.Clone()
	want.Children[1].Set("text", element.TextValue("two!"))
	files, err := Kind{}.Write(src, want, nil)
	if got := string(files["notes.txt"]); err != nil || got != "one\r\ntwo!\nthree\r\n" {
		t.Errorf("%q, %v", got, err)
	}
}

func TestWhatIsNoTextIsRefused(t *testing.T) {
	for _, s := range []string{"a\x00b", "\xff\xfea", strings.Repeat("x", MaxSize+1)} {
		if _, err := (Kind{}).Read(kind.FileSource{Name: "x", Data: []byte(s)}); err == nil {
			t.Errorf("%.10q is taken", s)
		}
	}
	if !(Kind{}).Claims("x", []byte("coral ä")[:7]) || (Kind{}).Claims("x", []byte{1, 2}) {
		t.Error("claims")
	}
}

func FuzzText(f *testing.F) {
	f.Add("one\ntwo\r\n", "one\nthree")
	f.Fuzz(func(t *testing.T, from, to string) {
		a, err := Kind{}.Read(kind.FileSource{Name: "x", Data: []byte(from)})
		b, err2 := Kind{}.Read(kind.FileSource{Name: "x", Data: []byte(to)})
		if err != nil || err2 != nil {
			return
		}
		files, err := Kind{}.Write(kind.FileSource{Name: "x", Data: []byte(from)}, b.Root, nil)
		if err != nil {
			t.Fatal(err)
		}
		if files == nil {
			if a.Root.Sum() != b.Root.Sum() {
				t.Fatal("nothing written for another tree")
			}
			return
		}
		if b.Root.Prop("line ends").Text() != "mixed" && string(files["x"]) != to {
			t.Fatalf("%q to %q gave %q", from, to, files["x"])
		}
	})
}
