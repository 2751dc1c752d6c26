package element

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// grow makes a random tree whose siblings have distinct keys or none.
func grow(r *rand.Rand, depth int) *Element {
	e := &Element{Type: "group", Ordered: r.IntN(2) == 0}
	for i := range r.IntN(4) {
		e.Props = append(e.Props, Prop{fmt.Sprintf("p%d", i), randomValue(r)})
	}
	if depth == 0 {
		return e
	}
	for i := range r.IntN(7) {
		k := grow(r, depth-1)
		k.Type = []string{"node", "line"}[r.IntN(2)]
		if k.Type == "node" {
			k.Key = fmt.Sprintf("k%d", i)
		}
		e.Children = append(e.Children, k)
	}
	return e
}

func randomValue(r *rand.Rand) Value {
	switch r.IntN(5) {
	case 0:
		return IntValue(int64(r.IntN(5)))
	case 1:
		return TextValue([]string{"reef", "tank", "a longer text about coral", ""}[r.IntN(4)])
	case 2:
		return ListValue(IntValue(int64(r.IntN(3))), NumberValue("1.50"))
	case 3:
		return BoolValue(r.IntN(2) == 0)
	default:
		return NullValue()
	}
}

// disturb gives a changed copy of e.
func disturb(r *rand.Rand, e *Element) *Element {
	c := e.Clone()
	for range 1 + r.IntN(4) {
		at := c
		for len(at.Children) > 0 && r.IntN(3) > 0 {
			at = at.Children[r.IntN(len(at.Children))]
		}
		switch n := len(at.Children); {
		case r.IntN(3) == 0:
			at.Set(fmt.Sprintf("p%d", r.IntN(4)), randomValue(r))
		case n > 0 && r.IntN(3) == 0:
			i := r.IntN(n)
			at.Children = slices.Delete(at.Children, i, i+1)
		case n > 1 && r.IntN(2) == 0:
			i, j := r.IntN(n), r.IntN(n)
			at.Children[i], at.Children[j] = at.Children[j], at.Children[i]
		case n > 0 && r.IntN(3) == 0:
			if k := at.Children[r.IntN(n)]; k.Key != "" {
				k.Key = fmt.Sprintf("renamed%d", r.IntN(1000))
			}
		default:
			k := grow(r, 1)
			k.Type, k.Key = "node", fmt.Sprintf("new%d", r.IntN(1_000_000))
			if r.IntN(2) == 0 {
				k.Type, k.Key = "line", ""
			}
			at.Children = slices.Insert(at.Children, r.IntN(n+1), k)
		}
	}
	return c
}

func TestApplyingAComparisonGivesTheOtherTree(t *testing.T) {
	for seed := range uint64(1200) {
		r := rand.New(rand.NewPCG(seed, 1))
		a := grow(r, 3)
		b := disturb(r, a)
		if seed%5 == 0 {
			b = grow(r, 3)
			b.Type = a.Type
		}
		d := Compare(a, b)
		got := Apply(a, d)
		if left := Compare(b, got); left != nil {
			t.Fatalf("seed %d: %d changes are left\na:\n%s\nb:\n%s\ngot:\n%s", seed, len(left.Changes("x")), a.Dump(), b.Dump(), got.Dump())
		}
		if (d == nil) != (len(d.Changes("x")) == 0) {
			t.Fatalf("seed %d: a difference that lists no change, or the reverse\n%s\n%s", seed, a.Dump(), b.Dump())
		}
	}
}

func TestMergeWithOneSideUnchangedIsTheOtherSide(t *testing.T) {
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(seed, 2))
		b := grow(r, 3)
		x := disturb(r, b)
		for name, sides := range map[string][2]*Element{"theirs": {b, x}, "mine": {x, b}, "both": {x, x.Clone()}} {
			got, conflicts := Merge("x", b, sides[0], sides[1], nil)
			if len(conflicts) != 0 || got.Sum() != x.Sum() {
				t.Fatalf("seed %d, %s changed: %d conflicts, result\n%s\nwant\n%s", seed, name, len(conflicts), got.Dump(), x.Dump())
			}
		}
	}
}

func TestConflictsAreSymmetric(t *testing.T) {
	total := 0
	for seed := range uint64(1200) {
		r := rand.New(rand.NewPCG(seed, 3))
		b := grow(r, 2)
		m, th := disturb(r, b), disturb(r, b)
		_, one := Merge("x", b, m, th, nil)
		_, two := Merge("x", b, th, m, nil)
		total += len(one)
		lines := func(cs []Conflict, swap bool) []string {
			var out []string
			for _, c := range cs {
				if swap {
					c.Mine, c.Theirs = c.Theirs, c.Mine
				}
				out = append(out, fmt.Sprint(c.Address, "|", c.Base, "|", c.Mine, "|", c.Theirs))
			}
			slices.Sort(out)
			return out
		}
		if got, want := lines(one, false), lines(two, true); !slices.Equal(got, want) {
			t.Fatalf("seed %d:\n%s\nswapped:\n%s", seed, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	if total < 100 {
		t.Fatalf("only %d conflicts came up: the generator shows too little", total)
	}
}

// TestDisjointEditsCombine edits different children on the two sides: the
// result must equal both edits made one after the other.
func TestDisjointEditsCombine(t *testing.T) {
	for seed := range uint64(800) {
		r := rand.New(rand.NewPCG(seed, 4))
		b := &Element{Type: "scene", Ordered: seed%2 == 0}
		for i := range 8 {
			k := grow(r, 2)
			k.Type, k.Key = "node", fmt.Sprintf("n%d", i)
			b.Add(k)
		}
		m, th, both := b.Clone(), b.Clone(), b.Clone()
		for i := range 8 {
			k := disturb(r, b.Children[i])
			if i%2 == 0 {
				m.Children[i] = k
			} else {
				th.Children[i] = k
			}
			both.Children[i] = k
		}
		got, conflicts := Merge("x", b, m, th, nil)
		if len(conflicts) > 0 || got.Sum() != both.Sum() {
			t.Fatalf("seed %d: %v\ngot\n%s\nwant\n%s", seed, conflicts, got.Dump(), both.Dump())
		}
	}
}

func node(key string, props ...any) *Element {
	e := &Element{Type: "node", Key: key}
	for i := 0; i < len(props); i += 2 {
		e.Set(props[i].(string), TextValue(props[i+1].(string)))
	}
	return e
}

func lines(ls ...string) *Element {
	e := &Element{Type: "text", Ordered: true}
	for _, l := range ls {
		e.Add(&Element{Type: "line", Props: []Prop{{"text", TextValue(l)}}})
	}
	return e
}

func textOf(e *Element) string {
	var out []string
	for _, k := range e.Children {
		out = append(out, k.Prop("text").Text())
	}
	return strings.Join(out, "|")
}

func TestChangesReadWell(t *testing.T) {
	a := (&Element{Type: "scene"}).Add(node("Lamp", "scale", "1 1 1", "mesh", "lamp", "light", "warm"), node("Rock", "mesh", "rock"))
	b := (&Element{Type: "scene"}).Add(node("Lantern", "scale", "1 1 1", "mesh", "lamp", "light", "warm"), node("Coral", "mesh", "coral"))
	want := "renamed exhibit/reef.glb::node:Lantern Lamp Lantern\nadded exhibit/reef.glb::node:Coral (none) (none)\n" +
		"removed exhibit/reef.glb::node:Rock (none) (none)\n"
	got := ""
	for _, c := range Compare(a, b).Changes("exhibit/reef.glb") {
		got += fmt.Sprintln(c.Kind, c.Address, c.From, c.To)
	}
	if got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
}

func TestASubtreeUnderAnotherParentHasMoved(t *testing.T) {
	tree := func(first bool) *Element {
		g1, g2 := &Element{Type: "group", Key: "one"}, &Element{Type: "group", Key: "two"}
		to := g1
		if !first {
			to = g2
		}
		to.Add(node("Lamp", "scale", "2"))
		return (&Element{Type: "scene"}).Add(g1, g2)
	}
	got := Compare(tree(true), tree(false)).Changes("a")
	if len(got) != 1 || got[0].Kind != Moved || got[0].From.Text() != "a::group:one/node:Lamp" ||
		got[0].To.Text() != "a::group:two/node:Lamp" {
		t.Errorf("got %v", got)
	}
}

func TestMergeOfTexts(t *testing.T) {
	base := []string{"one", "two", "three", "four", "five"}
	for _, c := range []struct {
		name         string
		mine, theirs []string
		keep         Keep
		want         string
		conflicts    string
	}{
		{"different lines", []string{"one!", "two", "three", "four", "five"}, []string{"one", "two", "three", "four", "five!"}, "",
			"one!|two|three|four|five!", ""},
		{"one line twice", []string{"one", "two", "three a", "four", "five"}, []string{"one", "two", "three b", "four", "five"}, "",
			"one|two|three a|four|five", "f::line:#3.text"},
		{"settled as theirs", []string{"one", "two", "three a", "four", "five"}, []string{"one", "two", "three b", "four", "five"},
			KeepTheirs, "one|two|three b|four|five", ""},
		{"both put in at one place", append(slices.Clone(base), "mine"), append(slices.Clone(base), "other"), "",
			"one|two|three|four|five|mine", "f::line:#6.(inserted)"},
		{"both put in, keep both", append(slices.Clone(base), "mine"), append(slices.Clone(base), "other"), KeepBoth,
			"one|two|three|four|five|mine|other", ""},
		{"equal lines put in", append(slices.Clone(base), "same"), append(slices.Clone(base), "same"), "",
			"one|two|three|four|five|same", ""},
		{"deleted and edited", []string{"one", "two", "four", "five"}, []string{"one", "two", "three!", "four", "five"}, "",
			"one|two|four|five", "f::line:#3"},
		{"deleted and edited, theirs", []string{"one", "two", "four", "five"}, []string{"one", "two", "three!", "four", "five"}, KeepTheirs,
			"one|two|three!|four|five", ""},
	} {
		settle := func(Conflict) (Choice, bool) { return Choice{Keep: c.keep}, c.keep != "" }
		got, conflicts := Merge("f", lines(base...), lines(c.mine...), lines(c.theirs...), settle)
		var at []string
		for _, x := range conflicts {
			at = append(at, x.Address.String())
		}
		if textOf(got) != c.want || strings.Join(at, " ") != c.conflicts {
			t.Errorf("%s: got %s with conflicts %v, want %s with %s", c.name, textOf(got), at, c.want, c.conflicts)
		}
	}
}

func TestBothSidesRenameAndReorder(t *testing.T) {
	base := (&Element{Type: "l", Ordered: true}).Add(node("a", "p", "1", "q", "2", "r", "3"), node("b"), node("c"))
	mine, theirs := base.Clone(), base.Clone()
	mine.Children[0].Key = "a1"
	theirs.Children[0].Key = "a2"
	_, conflicts := Merge("f", base, mine, theirs, nil)
	if len(conflicts) != 1 || conflicts[0].Address.String() != "f::node:a.(name)" {
		t.Errorf("rename on both sides: %v", conflicts)
	}
	mine, theirs = base.Clone(), base.Clone()
	for _, e := range []*Element{base, mine, theirs} {
		e.Add(node("d"))
	}
	move := func(e *Element, from, to int) {
		kid := e.Children[from]
		e.Children = slices.Insert(slices.Delete(slices.Clone(e.Children), from, from+1), to, kid)
	}
	move(mine, 0, 2)
	move(theirs, 0, 3)
	_, conflicts = Merge("f", base, mine, theirs, nil)
	if len(conflicts) != 1 || conflicts[0].Address.String() != "f::.(order)" {
		t.Errorf("order on both sides: %v", conflicts)
	}
	theirs = base.Clone()
	move(theirs, 3, 2)
	got, conflicts := Merge("f", base, mine, theirs, nil)
	if len(conflicts) > 0 || keysOf(got) != "bdca" {
		t.Errorf("each moves one: %s, %v", keysOf(got), conflicts)
	}
	mine.Add(node("new"))
	if got, conflicts := Merge("f", base, mine, base.Clone(), nil); len(conflicts) > 0 || got.Sum() != mine.Sum() {
		t.Errorf("order and addition on one side: %v", conflicts)
	}
}

func TestValuesThatNobodyHadAreFound(t *testing.T) {
	base := (&Element{Type: "l"}).Add(node("a", "p", "1", "q", "2"), node("b", "p", "1"))
	mine, theirs := base.Clone(), base.Clone()
	mine.Children[0].Set("p", TextValue("5"))
	theirs.Children[0].Set("q", TextValue("6"))
	out, _ := Merge("f", base, mine, theirs, nil)
	if found := Unvouched("f", base, mine, theirs, out); len(found) > 0 {
		t.Errorf("a sound merge: %v", found)
	}
	out = out.Clone()
	out.Children[0].Set("p", TextValue("6")) // as theirs has another property
	if found := Unvouched("f", base, mine, theirs, out); len(found) != 1 || found[0].String() != "f::node:a.p" {
		t.Errorf("a bent one: %v", found)
	}
}

func keysOf(e *Element) (out string) {
	for _, k := range e.Children {
		out += k.Key
	}
	return out
}

func TestAddressesPrintAndParse(t *testing.T) {
	for _, s := range []string{
		"exhibit/reef.glb", "exhibit/reef.glb::node:Lamp.scale", "database::table:feeding/column:amount_g",
		`a::part:"forms/round.xml"/label:x.text`, "notes.txt::line:#12.text", `"odd::path"::node:"#1"`, "a::.generator",
		`a::"x:y":"a.b"."p.q"`,
		"a::node:Reef Lamp.scale",
	} {
		a, err := ParseAddress(s)
		if err != nil {
			t.Errorf("%s: %v", s, err)
		} else if a.String() != s {
			t.Errorf("%s prints as %s", s, a)
		}
	}
	for _, s := range []string{"", "::node:a", "a::", "a::node", "a::node:", "a::node:b/", "a::node:b.c.d", `a::node:"b`, "a::node:#0",
		"a::node:#x", "a::n:b:c"} {
		if a, err := ParseAddress(s); err == nil {
			t.Errorf("%q is taken, as %#v", s, a)
		}
	}
}

func FuzzAddress(f *testing.F) {
	f.Add("exhibit/reef.glb::node:Lamp.scale")
	f.Add(`a::part:"x/y"/line:#3.text`)
	f.Fuzz(func(t *testing.T, s string) {
		a, err := ParseAddress(s)
		if err != nil {
			return
		}
		b, err := ParseAddress(a.String())
		if err != nil || b.String() != a.String() {
			t.Fatalf("%q printed as %q, read back as %q, %v", s, a, b, err)
		}
	})
}

func TestNumbersCompareByValue(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{{"1", "1.0", true}, {"10e-1", "1", true}, {"-0", "0", true}, {"0.1", "0.10000000000000001", false}, {"1e400", "1e401", false},
		{"100", "1e2", true}} {
		if got := NumberValue(c.a).Equal(NumberValue(c.b)); got != c.want {
			t.Errorf("%s and %s: equal is %v", c.a, c.b, got)
		}
	}
	if _, err := ParseLike(ListValue(IntValue(1)), "1 x"); err == nil {
		t.Error("a list of numbers took a word")
	}
	if v, err := ParseLike(ListValue(IntValue(1), IntValue(1)), "1.2 1.3"); err != nil || v.String() != "1.2 1.3" {
		t.Errorf("got %v, %v", v, err)
	}
}

func BenchmarkCompare100kElementsTenDiffer(b *testing.B) {
	root := &Element{Type: "scene"}
	for i := range 100_000 {
		root.Add(node(fmt.Sprint("n", i), "scale", "1 1 1", "mesh", fmt.Sprint(i%100)))
	}
	other := root.Clone()
	for i := range 10 {
		other.Children[i*9_999].Set("scale", TextValue("2 2 2"))
	}
	for b.Loop() {
		if n := len(Compare(root, other).Changes("x")); n != 10 {
			b.Fatal(n)
		}
	}
}
