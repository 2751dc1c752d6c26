package chest

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"testing"

	"oakenchest/core/element"
)

// TestFilesThatMovedArePairedOnce moves files of few contents about at random, and holds the pairs to what they must be.
func TestFilesThatMovedArePairedOnce(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		var pairs []Pair
		gone, came := map[string]File{}, map[string]File{}
		for i := range 2 + r.IntN(12) {
			content := []byte(fmt.Sprint("content ", r.IntN(3)))
			f := File{Path: fmt.Sprintf("%c/%d%c.txt", 'a'+rune(r.IntN(4)), i, 'a'+rune(r.IntN(3))), Mode: 1, Size: int64(len(content)),
				Digest: element.DigestOf(content)}
			if r.IntN(2) == 0 {
				gone[f.Path] = f
				pairs = append(pairs, Pair{Path: f.Path, Was: f})
				if r.IntN(2) == 0 { // it moves, and keeps its name
					f.Path = "new/" + path.Base(f.Path)
					came[f.Path] = f
					pairs = append(pairs, Pair{Path: f.Path, Is: f})
				}
				continue
			}
			came[f.Path] = f
			pairs = append(pairs, Pair{Path: f.Path, Is: f})
		}
		got := Moved(pairs)
		r.Shuffle(len(pairs), func(i, j int) { pairs[i], pairs[j] = pairs[j], pairs[i] })
		if again := Moved(pairs); fmt.Sprint(again) != fmt.Sprint(got) {
			t.Fatalf("seed %d: in another order %v, not %v", seed, again, got)
		}
		used := map[string]bool{}
		for n, o := range got {
			if used[o] || gone[o].Digest != came[n].Digest || gone[o].Mode == 0 || came[n].Mode == 0 {
				t.Errorf("seed %d: %s → %s", seed, o, n)
			}
			used[o] = true
		}
		for o, f := range gone {
			for n, g := range came {
				if f.Digest != g.Digest {
					continue
				}
				if !used[o] && got[n] == "" {
					t.Errorf("seed %d: %s and %s are not paired", seed, o, n)
				}
				if path.Base(o) == path.Base(n) && got[n] != o && path.Base(got[n]) != path.Base(n) && !namedElsewhere(got, o) {
					t.Errorf("seed %d: %s kept its name at %s, and goes with %s", seed, o, n, got[n])
				}
			}
		}
	}
}

// namedElsewhere reports whether a file goes with another that has its name.
func namedElsewhere(got map[string]string, o string) bool {
	names := make([]string, 0, len(got))
	for n, from := range got {
		if from == o {
			names = append(names, path.Base(n))
		}
	}
	return slices.Contains(names, path.Base(o))
}
