package spelling

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestTextsMerge(t *testing.T) {
	for name, c := range map[string]struct {
		base, mine, theirs, want string
		open                     int
	}{
		"neighbouring lines":    {"a\nb\n", "A\nb\n", "a\nB\n", "A\nB\n", 0},
		"one line, two places":  {"rate: 8 # per hour\n", "rate: 9 # per hour\n", "rate: 8 # per HOUR\n", "rate: 9 # per HOUR\n", 0},
		"one remark, two words": {"# one two\n", "# ONE two\n", "# one TWO\n", "# ONE two\n", 1},
		"one text in quotes":    {`a "one two"`, `a "ONE two"`, `a "one TWO"`, `a "ONE two"`, 1},
		"both take lines away":  {"a\nb\nc\n", "b\nc\n", "a\nc\n", "c\n", 0},
		"beside what is gone":   {"a\nb\nc\n", "a\nc\n", "a\nnew\nb\nc\n", "a\nc\n", 1},
		"line ends":             {"a\nb\n", "a\r\nb\r\n", "a\nB\n", "a\r\nB\r\n", 0},
		"a mark":                {"a\nb\n", "\ufeffa\nb\n", "a\nB\n", "\ufeffa\nB\n", 0},
		"an encoding": {"gr\xfcn\nb\nhere and there\n", "grün\nb\nhere and there\n", "gr\xfcn\nB\nhere and there\n",
			"grün\nB\nhere and there\n", 0},
		"nothing before":           {"", "a\n", "a\n", "a\n", 0},
		"the same on both sides":   {"a\n", "b\n", "b\n", "b\n", 0},
		"another end of last line": {"a\nb", "a\nb\n", "A\nb", "A\nb\n", 0},
	} {
		got, open, ok := Merge([]byte(c.base), []byte(c.mine), []byte(c.theirs), Edits, nil)
		if !ok || string(got) != c.want || len(open) != c.open {
			t.Errorf("%s: %q, %v, %v, want %q", name, got, open, ok, c.want)
		}
	}
	if out, _, ok := Merge([]byte("a\x00"), []byte("b"), []byte("c"), Edits, nil); ok {
		t.Errorf("bytes merged to %q", out)
	}
	if !Differ([]byte("a\nb"), []byte("gr\xfcn and all of that\n"), []byte("\xff\xfea\x00")) {
		t.Error("two encodings are no clash")
	}
}

func TestClashesAreChosen(t *testing.T) {
	for take, want := range map[Take]string{Mine: "a\nx\nc\n", Theirs: "a\ny\nc\n", Base: "a\nb\nc\n", Open: "a\nx\nc\n"} {
		got, open, _ := Merge([]byte("a\nb\nc\n"), []byte("a\nx\nc\n"), []byte("a\ny\nc\n"), Edits, func(c Clash) Take {
			if c.Base != "b\n" || c.Mine != "x\n" || c.Theirs != "y\n" || c.Line != 2 {
				t.Errorf("asked about %+v", c)
			}
			return take
		})
		if string(got) != want || (len(open) > 0) != (take == Open) {
			t.Errorf("%v: %q, %v", take, got, open)
		}
	}
}

// TestLinesOfBothArrive merges random texts of distinct lines, held against sets: a line that
// a side put in is there once, one that a side took away is gone, or there is a clash.
func TestLinesOfBothArrive(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 7))
	for round := range 3000 {
		var base []string
		for i := range r.IntN(12) {
			base = append(base, fmt.Sprintf("line %d of all\n", i))
		}
		edit := func(who string) []string {
			out := slices.Clone(base)
			for n := range 1 + r.IntN(3) {
				if at := r.IntN(len(out) + 1); at < len(out) && r.IntN(2) == 0 {
					out = slices.Delete(out, at, at+1)
				} else {
					out = slices.Insert(out, at, fmt.Sprintf("line %s%d of %s\n", who, n, who))
				}
			}
			return out
		}
		mine, theirs := edit("mine"), edit("theirs")
		got, open, ok := Merge([]byte(strings.Join(base, "")), []byte(strings.Join(mine, "")), []byte(strings.Join(theirs, "")),
			Sense(r.IntN(2)), nil)
		if !ok {
			t.Fatal("not merged")
		}
		if len(open) > 0 {
			continue
		}
		lines := strings.SplitAfter(string(got), "\n")
		for _, line := range slices.Concat(base, mine, theirs) {
			b, m, th := slices.Contains(base, line), slices.Contains(mine, line), slices.Contains(theirs, line)
			want := m && th || !b
			n := 0
			for _, l := range lines {
				if l == line {
					n++
				}
			}
			if (n == 1) != want || n > 1 {
				t.Fatalf("round %d: %q is there %d times\nbase %q\nmine %q\ntheirs %q\ngot %q", round, line, n, base, mine, theirs, lines)
			}
		}
	}
}

func FuzzMerge(f *testing.F) {
	f.Add("a\nb\n", "a\nc\n", "b\n")
	f.Add("x: 1 # one\r\n", "x: 2 # one\r\n", "\ufeffx: 1 # two\r\n")
	f.Fuzz(func(t *testing.T, base, mine, theirs string) {
		if out, open, ok := Merge([]byte(base), []byte(mine), []byte(base), Edits, nil); ok && (len(open) > 0 || string(out) != mine) {
			t.Fatalf("mine alone changed %q to %q, and it became %q", base, mine, out)
		}
		if out, open, ok := Merge([]byte(base), []byte(base), []byte(theirs), Edits, nil); ok && (len(open) > 0 || string(out) != theirs) {
			t.Fatalf("theirs alone changed %q to %q, and it became %q", base, theirs, out)
		}
		for _, sense := range []Sense{Edits, Spellings} {
			Merge([]byte(base), []byte(mine), []byte(theirs), sense, func(Clash) Take { return Theirs })
		}
	})
}
