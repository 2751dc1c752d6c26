package yamltree

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func source(s string) kind.FileSource { return kind.FileSource{Name: "a.yaml", Data: []byte(s)} }

func read(t testing.TB, s string) *element.Element {
	t.Helper()
	r, err := Kind{}.Read(source(s))
	if err != nil {
		t.Fatalf("%v in\n%s", err, s)
	}
	return r.Root
}

const reef = `# The reef
title: Reef exhibit   # shown
'light': "on"
empty:
hours: [7, 19]
defaults: &base
  depth: 3
tanks:
  # the first one
  - name: Lagoon
    <<: *base
    litres: 42000
    fish:
      - clown
      - wrasse
  - name: Kelp
    litres: 9000
    limits: {low: 20, high: 26.5}
    note: |
      Feed
      # twice
      a day
  # the last one
  - name: Cave
    litres: 0
rota:
  monday: !person Imke
  tuesday: Tarek
`

func TestOneEditChangesItsBytesAlone(t *testing.T) {
	for _, c := range []struct{ old, new, address string }{
		{"Reef exhibit ", "Kelp exhibit ", "a::.title"}, {`"on"`, `"off: all"`, "a::.light"}, {"empty:", "empty: full", "a::.empty"},
		{"depth: 3", "depth: 4", "a::object:defaults.depth"},
		{"42000", "41000", "a::list:tanks/item:Lagoon.litres"}, {"26.5", "27", "a::list:tanks/item:Kelp/object:limits.high"},
		{"      # twice\n", "      thrice\n", "a::list:tanks/item:Kelp.note"},
		{"    litres: 9000\n", "", "a::list:tanks/item:Kelp.litres"}, {"    litres: 0\n", "    litres: 0\n    closed: true\n",
			"a::list:tanks/item:Cave.closed"},
		{"  # the last one\n  - name: Cave\n    litres: 0\n", "", "a::list:tanks/item:Cave"}, {"tuesday: Tarek\n",
			"tuesday: Tarek\n  wednesday: Odalys\n", "a::object:rota.wednesday"},
		{"  - name: Cave\n    litres: 0\n", "  - name: Cave\n    litres: 0\n  - name: Shore\n    litres: 7\n", "a::list:tanks/item:Shore"},
		{"rota:\n  monday: !person Imke\n  tuesday: Tarek\n", "", "a::object:rota"},
	} {
		to := strings.Replace(reef, c.old, c.new, 1)
		changes := element.Compare(read(t, reef), read(t, to)).Changes("a")
		if len(changes) != 1 || changes[0].Address.String() != c.address && !strings.HasPrefix(c.address, "a::.") {
			t.Errorf("%s: changes %v", c.new, changes)
		}
		files, err := Kind{}.Write(source(reef), read(t, to), nil)
		if got := string(files["a.yaml"]); err != nil || got != to {
			t.Errorf("%q: %v, got\n%s", c.new, err, got)
		}
	}
}

func TestSeveralDocumentsStandInOneFile(t *testing.T) {
	from, to := "---\na: 1\n---\nb: 2\n...\n", "---\na: 1\n---\nb: 3\n...\n"
	files, err := Kind{}.Write(source(from), read(t, to), nil)
	if err != nil || string(files["a.yaml"]) != to {
		t.Errorf("%v: %s", err, files["a.yaml"])
	}
}

// text makes a document out of random choices.
func text(rnd *rand.Rand, indent string, depth int) string {
	var b strings.Builder
	for i := range 1 + rnd.IntN(4) {
		if rnd.IntN(5) == 0 {
			b.WriteString(indent + "# a comment\n")
		}
		fmt.Fprintf(&b, "%sk%d:", indent, i)
		switch c := rnd.IntN(8); {
		case c == 0 && depth < 3:
			b.WriteString("\n" + text(rnd, indent+"  ", depth+1))
		case c == 1 && depth < 3:
			b.WriteString("\n")
			for j := range 1 + rnd.IntN(3) {
				fmt.Fprintf(&b, "%s  - id: i%d\n%s", indent, j+rnd.IntN(2)*5,
					strings.Repeat(text(rnd, indent+"    ", depth+2), rnd.IntN(2)))
			}
		case c == 2:
			fmt.Fprintf(&b, "\n%s  - a\n%s  - %d\n", indent, indent, rnd.IntN(3))
		default:
			b.WriteString([]string{" plain words\n", " 'it''s'\n", " \"a\\tb\"\n", " 1.50\n", " true\n", " {x: 1, y: [a, b]}\n",
				" [1, {z: 2}]\n", "\n", " |\n" + indent + "    one\n" + indent + "    two\n", " ~\n"}[rnd.IntN(10)])
		}
	}
	return b.String()
}

// TestFilesBecomeOthers writes random trees into random files. A layout may have
// no place for a change, which is an error and rare; never is another tree written.
func TestFilesBecomeOthers(t *testing.T) {
	refused := 0
	const rounds = 1000
	for seed := range uint64(rounds) {
		rnd := rand.New(rand.NewPCG(seed, 4))
		from, to := text(rnd, "", 0), text(rnd, "", 0)
		want := read(t, to)
		files, err := Kind{}.Write(source(from), want, nil)
		if err != nil {
			refused++
			continue
		}
		got := from
		if files != nil {
			got = string(files["a.yaml"])
		}
		if left := element.Compare(read(t, got), want); left != nil {
			t.Fatalf("%d:\n%s\nto\n%s\ngave\n%s", seed, from, to, got)
		}
	}
	if refused > rounds/20 {
		t.Errorf("%d of %d changes are refused", refused, rounds)
	}
}

func TestWhatIsNotWellFormedIsRefused(t *testing.T) {
	for _, s := range []string{"a: 1\na: 2\n", "a: [1\n", "? [x]\n: 1\n", "a: *nothing\n", "\tx: 1\n", "a: \xff\n",
		strings.Repeat("[", 1000) + strings.Repeat("]", 1000)} {
		if r, err := (Kind{}).Read(source(s)); err == nil {
			t.Errorf("%q is taken:\n%s", s, r.Root.Dump())
		}
	}
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'k'; c++ {
		bomb += fmt.Sprintf("%c: &%c [%s]\n", c, c, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c,", c-1), 9), ","))
	}
	if n := read(t, bomb).Count(); n > 200 {
		t.Errorf("aliases are followed: %d elements", n)
	}
}

func FuzzYAML(f *testing.F) {
	f.Add(reef, "title: x\ntanks: []\n")
	f.Add("- a\n- {b: c}\n- - d\n  - e\n", "- a\n- - e\n")
	f.Add("--- |\n  text\n---\n- x\n", "a: &x {y: z}\nb: *x")
	f.Fuzz(func(t *testing.T, from, to string) {
		a, err := Kind{}.Read(source(from))
		if err != nil {
			return
		}
		if files, err := (Kind{}).Write(source(from), a.Root, nil); err != nil || files != nil {
			t.Fatalf("an equal tree: %v", err)
		}
		b, err := Kind{}.Read(source(to))
		if err != nil {
			return
		}
		files, err := Kind{}.Write(source(from), b.Root, nil)
		if err != nil || files == nil {
			return
		}
		got, err := Kind{}.Read(source(string(files["a.yaml"])))
		if err != nil || element.Compare(got.Root, b.Root) != nil && got.Root.Type == b.Root.Type {
			t.Fatalf("%q to %q gave %q: %v", from, to, files["a.yaml"], err)
		}
	})
}
