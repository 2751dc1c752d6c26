package element

import (
	"math/rand/v2"
	"testing"
)

// longest gives the length of a longest common subsequence the slow, obvious way.
func longest(a, b []Digest) int {
	best := make([][]int, len(a)+1)
	for i := range best {
		best[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if best[i][j] = max(best[i+1][j], best[i][j+1]); a[i] == b[j] {
				best[i][j] = max(best[i][j], 1+best[i+1][j+1])
			}
		}
	}
	return best[0][0]
}

func digestsOf(r *rand.Rand, n, letters int) []Digest {
	out := make([]Digest, n)
	for i := range out {
		out[i] = Digest{byte(r.IntN(letters)), byte(r.IntN(letters) / 16)}
	}
	return out
}

func checkPairs(t *testing.T, a, b []Digest, pairs [][2]int) {
	t.Helper()
	last := [2]int{-1, -1}
	for _, p := range pairs {
		if p[0] <= last[0] || p[1] <= last[1] || p[0] >= len(a) || p[1] >= len(b) || a[p[0]] != b[p[1]] {
			t.Fatalf("the pairs %v are no common subsequence", pairs)
		}
		last = p
	}
}

func TestSmallSequencesAreAlignedAsWellAsCanBe(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 9))
		a, b := digestsOf(r, r.IntN(30), 2+r.IntN(6)), digestsOf(r, r.IntN(30), 2+r.IntN(6))
		pairs := CommonRun(a, b)
		checkPairs(t, a, b, pairs)
		if want := longest(a, b); len(pairs) != want {
			t.Fatalf("seed %d: %d pairs, %d are possible", seed, len(pairs), want)
		}
	}
}

func TestTheGreedyWayIsAsGood(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 12))
		a, b := digestsOf(r, r.IntN(25), 2+r.IntN(4)), digestsOf(r, r.IntN(25), 2+r.IntN(4))
		pairs, ok := greedy(a, b)
		checkPairs(t, a, b, pairs)
		if want := longest(a, b); !ok || len(pairs) != want {
			t.Fatalf("seed %d: %d pairs, %d are possible", seed, len(pairs), want)
		}
	}
	var a, b []Digest
	for i := range mostEdits {
		a, b = append(a, Digest{1, byte(i), byte(i >> 8)}), append(b, Digest{2, byte(i), byte(i >> 8)})
	}
	if _, ok := greedy(a, b); ok {
		t.Error("more differences than allowed were looked for")
	}
}

func TestLargeSequencesAreAlignedSoundly(t *testing.T) {
	for seed, letters := range []int{2, 16, 4000} {
		r := rand.New(rand.NewPCG(uint64(seed), 10))
		a := digestsOf(r, 3000, letters)
		var b []Digest
		for i, d := range a {
			switch r.IntN(20) {
			case 0:
			case 1:
				b = append(b, Digest{0xff, byte(i)}, d)
			default:
				b = append(b, d)
			}
		}
		pairs := CommonRun(a, b)
		checkPairs(t, a, b, pairs)
		if least := len(a) * 8 / 10; len(pairs) < least {
			t.Errorf("%d letters: only %d of %d are paired", letters, len(pairs), len(a))
		}
	}
}

func TestIncreasingKeepsALongestRun(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 11))
		n := r.IntN(12)
		var pairs [][2]int
		for i, j := range r.Perm(n) {
			pairs = append(pairs, [2]int{i, j})
		}
		best := 0
		for set := range 1 << n { // every choice
			last, size := -1, 0
			for i := range n {
				if set>>i&1 == 1 {
					if pairs[i][1] <= last {
						size = -1
						break
					}
					last = pairs[i][1]
					size++
				}
			}
			best = max(best, size)
		}
		if got := Increasing(pairs); len(got) != best {
			t.Fatalf("seed %d: %v of %v, %d are possible", seed, got, pairs, best)
		}
	}
}

func TestSummariesSayWhatAnElementIs(t *testing.T) {
	for _, c := range []struct {
		e    *Element
		want string
	}{
		{&Element{Gist: "4 columns", Props: []Prop{{"a", IntValue(1)}}}, "4 columns"},
		{&Element{Props: []Prop{{"text", TextValue("A line")}}}, "A line"},
		{&Element{Props: []Prop{{"a", IntValue(1)}, {"b", TextValue("x")}, {"c", BoolValue(true)}, {"d", NullValue()}}},
			"a 1, b x, c true, …"},
		{(&Element{}).Add(&Element{}, &Element{Gist: "inside"}), "inside"},
		{&Element{}, ""},
	} {
		if got := c.e.Summary(); got != c.want {
			t.Errorf("got %q, want %q", got, c.want)
		}
	}
	if got := SizeText(1536); got != "1.5 KiB" {
		t.Error(got)
	}
	if a, b := SizeText(1023), SizeText(5<<30); a != "1023 B" || b != "5.0 GiB" {
		t.Error(a, b)
	}
}
