package element

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// grown makes a small tree out of random choices, so that equal ones are frequent.
func grown(r *rand.Rand, depth int) *Element {
	e := &Element{Type: []string{"a", "b"}[r.IntN(2)], Ordered: r.IntN(2) == 0}
	for i := range r.IntN(3) {
		e.Props = append(e.Props, Prop{fmt.Sprint("p", i), []Value{TextValue("x"), NumberValue("1"), NumberValue("1.0"), BoolValue(true),
			NullValue(), ListValue(TextValue("x"))}[r.IntN(6)]})
	}
	if depth > 0 {
		for range r.IntN(4) {
			k := grown(r, depth-1)
			k.Key = []string{"", "", "k", "l", "m"}[r.IntN(5)]
			e.Children = append(e.Children, k)
		}
	}
	Distinguish(e.Children)
	return e
}

// TestSameIsWhatDigestsSay holds the walk of two trees side by side against their
// digests, also when properties and the children of sets stand in another order.
func TestSameIsWhatDigestsSay(t *testing.T) {
	equal := 0
	for seed := range uint64(20_000) {
		r := rand.New(rand.NewPCG(seed, 8))
		a := grown(r, 2)
		b := grown(r, 2)
		if r.IntN(2) == 0 {
			b = a.Clone()
			shuffle(r, b)
			if r.IntN(3) == 0 && len(b.Children) > 0 {
				b.Children[r.IntN(len(b.Children))].Set("p0", TextValue("other"))
			}
		}
		want := a.Sum() == b.Sum()
		if got := (digests{}).same(a, b); got != want {
			t.Fatalf("seed %d: same %v, digests %v\n%s\n%s", seed, got, want, a.Dump(), b.Dump())
		}
		if d := Compare(a, b); (d == nil) != want {
			t.Fatalf("seed %d: compare gives %v\n%s\n%s", seed, d, a.Dump(), b.Dump())
		}
		if want {
			equal++
		}
	}
	if equal < 2000 {
		t.Errorf("only %d pairs were equal", equal)
	}
}

// shuffle puts properties and the children of sets in another order, throughout.
func shuffle(r *rand.Rand, e *Element) {
	r.Shuffle(len(e.Props), func(i, j int) { e.Props[i], e.Props[j] = e.Props[j], e.Props[i] })
	if !e.Ordered {
		r.Shuffle(len(e.Children), func(i, j int) { e.Children[i], e.Children[j] = e.Children[j], e.Children[i] })
	}
	for _, k := range e.Children {
		shuffle(r, k)
	}
}

func TestStepsAreTheSameOneByOneAndAllAtOnce(t *testing.T) {
	for seed := range uint64(500) {
		e := grown(rand.New(rand.NewPCG(seed, 10)), 1)
		s := steps{kids: e.Children}
		for i, want := range stepsOf(e.Children) {
			if got := s.at(i); got != want {
				t.Fatalf("seed %d: step %d is %v, want %v", seed, i, got, want)
			}
		}
		if !slices.Equal(e.Steps(), stepsOf(e.Children)) {
			t.Fatal("steps")
		}
	}
}
