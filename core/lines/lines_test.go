package lines

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

const before = "The reef opens at nine.\nTickets are sold inside.\nFish are fed at noon.\n\nCome and see.\n"

func TestEditedLinesStandBesideEachOther(t *testing.T) {
	after := "The reef opens at ten.\nTickets are sold inside.\nBring a coat.\nFish are fed at noon.\nCome and see.\n"
	rows, ok := Compare(before, after)
	if !ok {
		t.Fatal("too long")
	}
	var got []string
	for _, r := range rows {
		switch {
		case r.Same():
			got = append(got, "same")
		case r.Was == 0:
			got = append(got, "is "+r.After)
		case r.Is == 0:
			got = append(got, "was "+r.Before)
		default:
			m, n := r.WasMarks[0], r.IsMarks[0]
			got = append(got, r.Before[m[0]:m[1]]+"→"+r.After[n[0]:n[1]])
		}
	}
	if s := strings.Join(got, "|"); s != "nine→ten|same|is Bring a coat.|same|was |same" {
		t.Error(s)
	}
	folded := Fold(rows, 0)
	if len(folded) != 3 || len(Fold(rows, 1)) != 1 || len(Fold(rows, 1)[0]) != len(rows) {
		t.Errorf("folded %v", folded)
	}
}

// texts makes two texts that are related.
func texts(rnd *rand.Rand) (a, b string) {
	words := []string{"reef", "tank", "fed", "", "at nine", "coral lamp", "x"}
	var one, two []string
	for range rnd.IntN(30) {
		line := words[rnd.IntN(len(words))] + " " + words[rnd.IntN(len(words))]
		switch rnd.IntN(5) {
		case 0:
			one = append(one, line)
		case 1:
			two = append(two, line)
		case 2:
			one, two = append(one, line), append(two, line+" more")
		default:
			one, two = append(one, line), append(two, line)
		}
	}
	return strings.Join(one, "\n"), strings.Join(two, "\n")
}

func TestBothTextsCanBeReadOffTheRows(t *testing.T) {
	for seed := range uint64(500) {
		a, b := texts(rand.New(rand.NewPCG(seed, 3)))
		rows, _ := Compare(a, b)
		var was, is []string
		for _, r := range rows {
			if r.Was > 0 {
				if was = append(was, r.Before); len(was) != r.Was {
					t.Fatalf("seed %d: line %d stands at %d", seed, r.Was, len(was))
				}
			}
			if r.Is > 0 {
				if is = append(is, r.After); len(is) != r.Is {
					t.Fatalf("seed %d: line %d stands at %d", seed, r.Is, len(is))
				}
			}
			if stripped(r.Before, r.WasMarks) != stripped(r.After, r.IsMarks) && r.Was > 0 && r.Is > 0 {
				t.Fatalf("seed %d: what is not marked differs: %+v", seed, r)
			}
		}
		if !slices.Equal(was, cut(a)) || !slices.Equal(is, cut(b)) {
			t.Fatalf("seed %d:\n%q\n%q\n%v", seed, a, b, rows)
		}
		n := 0
		for _, run := range Fold(rows, 2) {
			for _, r := range run {
				if !r.Same() {
					n++
				}
			}
		}
		for _, r := range rows {
			if !r.Same() {
				n--
			}
		}
		if n != 0 {
			t.Fatalf("seed %d: folding lost or doubled %d rows", seed, n)
		}
	}
}

// stripped gives a line without what is marked.
func stripped(s string, marks [][2]int) string {
	var b strings.Builder
	at := 0
	for _, m := range marks {
		b.WriteString(s[at:m[0]])
		at = m[1]
	}
	return b.String() + s[at:]
}
