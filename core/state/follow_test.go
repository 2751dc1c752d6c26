package state

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/manifest"
)

// numbered gives a text of numbered lines, some of them otherwise.
func numbered(n int, other ...string) string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprint("line ", i)
	}
	for i := 0; i < len(other); i += 2 {
		var at int
		fmt.Sscan(other[i], &at)
		out[at] = other[i+1]
	}
	return strings.Join(out, "\n") + "\n"
}

func keep(k element.Keep) element.Settle {
	return func(element.Conflict) (element.Choice, bool) { return element.Choice{Keep: k}, true }
}

func listed(m Memory) string {
	var out []string
	for _, p := range slices.Sorted(maps.Keys(m.Contents)) {
		out = append(out, p+"="+string(m.Contents[p]))
	}
	return strings.Join(out, "|")
}

func TestMovesMeetEdits(t *testing.T) {
	for _, c := range []struct {
		name               string
		base, mine, theirs Memory
		settle             element.Settle
		want               Memory
		conflicts          string
	}{
		{"mine moved, theirs edited", memory("a.txt", numbered(9)), memory("b/a.txt", numbered(9)),
			memory("a.txt", numbered(9, "5", "FIVE")), nil, memory("b/a.txt", numbered(9, "5", "FIVE")), ""},
		{"theirs moved, mine edited", memory("a.txt", numbered(9)), memory("a.txt", numbered(9, "5", "FIVE")),
			memory("b/c.txt", numbered(9)), nil, memory("b/c.txt", numbered(9, "5", "FIVE")), ""},
		{"mine moved and edited", memory("a.txt", numbered(9)), memory("b.txt", numbered(9, "1", "ONE")),
			memory("a.txt", numbered(9, "7", "SEVEN")), nil, memory("b.txt", numbered(9, "1", "ONE", "7", "SEVEN")), ""},
		{"both edited, theirs moved", memory("a.txt", numbered(9)), memory("a.txt", numbered(9, "1", "ONE")),
			memory("b.txt", numbered(9, "7", "SEVEN")), nil, memory("b.txt", numbered(9, "1", "ONE", "7", "SEVEN")), ""},
		{"both moved alike", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory("b.txt", numbered(9)), nil,
			memory("b.txt", numbered(9)), ""},
		{"both moved and edited alike and apart", memory("a.txt", numbered(9)), memory("b.txt", numbered(9, "1", "ONE")),
			memory("b.txt", numbered(9, "7", "SEVEN")), nil, memory("b.txt", numbered(9, "1", "ONE", "7", "SEVEN")), ""},
		{"moved apart", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory("c.txt", numbered(9)), nil,
			memory("b.txt", numbered(9)), "b.txt::.(name)"},
		{"moved apart, theirs kept", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory("c.txt", numbered(9)),
			keep(element.KeepTheirs), memory("c.txt", numbered(9)), ""},
		{"moved apart, mine kept", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory("c.txt", numbered(9)),
			keep(element.KeepMine), memory("b.txt", numbered(9)), ""},
		{"mine moved, theirs took away", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory(), nil,
			memory("b.txt", numbered(9)), "b.txt"},
		{"mine moved, theirs took away, theirs kept", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)), memory(),
			keep(element.KeepTheirs), memory(), ""},
		{"theirs moved, mine took away", memory("a.txt", numbered(9)), memory(), memory("b.txt", numbered(9)), nil, memory(), "b.txt"},
		{"a path that the other side uses otherwise", memory("a.txt", numbered(9)), memory("b.txt", numbered(9)),
			memory("a.txt", numbered(9), "b.txt", "other\n"), nil, memory("b.txt", numbered(9)), "b.txt::line:#1.(inserted)"},
	} {
		got, conflicts := merged(t, c.base, c.mine, c.theirs, c.settle)
		if listed(got) != listed(c.want) {
			t.Errorf("%s: got %q, want %q", c.name, listed(got), listed(c.want))
		}
		if strings.Join(conflicts, " ") != c.conflicts {
			t.Errorf("%s: conflicts at %v, want %q", c.name, conflicts, c.conflicts)
		}
	}
}

func TestCompanionsTakeOneSide(t *testing.T) {
	base := memory("map.lvl", "\x00base", "map.lvl.baked", "\x00baked")
	mine := memory("map.lvl", "\x00mine", "map.lvl.baked", "\x00baked")
	theirs := memory("map.lvl", "\x00theirs", "map.lvl.baked", "\x00theirs'")
	r := reader()
	r.Manifest.Companions = []manifest.Companion{{Of: "*.lvl", Is: "{path}.baked"}}
	for k, want := range map[element.Keep]string{"": "map.lvl=\x00mine|map.lvl.baked=\x00baked",
		element.KeepMine: "map.lvl=\x00mine|map.lvl.baked=\x00baked", element.KeepTheirs: "map.lvl=\x00theirs|map.lvl.baked=\x00theirs'",
		element.KeepBase: "map.lvl=\x00base|map.lvl.baked=\x00baked"} {
		settle := keep(k)
		if k == "" {
			settle = nil
		}
		m, err := r.Merge(t.Context(), base, mine, theirs, settle)
		if err != nil {
			t.Fatal(err)
		}
		out := memory()
		files, err := Patched(mine, theirs, m).Files(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			all := map[string]Memory{"mine": mine, "theirs": theirs, "base": base}
			for _, s := range all {
				if data, ok := s.Contents[f.Path]; ok && element.DigestOf(data) == f.Digest {
					out.Contents[f.Path] = data
				}
			}
		}
		if listed(out) != want || (k == "") != (len(m.Conflicts) == 1) {
			t.Errorf("keep %q: %q with %d conflicts, want %q", k, listed(out), len(m.Conflicts), want)
		}
	}
}

// TestMovesLoseNothing draws moves and edits of files whose lines are all different, and
// wants each line that neither side took away to be in the outcome once.
func TestMovesLoseNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for round := range 400 {
		base := memory()
		for f := range 4 {
			var b strings.Builder
			for k := range 12 {
				fmt.Fprintf(&b, "%d.%d.%d\n", round, f, k)
			}
			base.Contents[fmt.Sprintf("f%d.txt", f)] = []byte(b.String())
		}
		side := func(name string) Memory {
			out := memory()
			for p, data := range base.Contents {
				if r.IntN(3) == 0 { // a line of its own half: the two never meet
					half := strings.SplitAfter(string(data), "\n")
					i := r.IntN(5)
					if name == "theirs" {
						i += 7
					}
					half[i] = name + " " + half[i]
					data = []byte(strings.Join(half, ""))
				}
				switch r.IntN(4) {
				case 0:
					p = "moved/" + p
				case 1:
					p = fmt.Sprintf("%s-%s", name, p)
				}
				out.Contents[p] = data
			}
			return out
		}
		mine, theirs := side("mine"), side("theirs")
		got, _ := merged(t, base, mine, theirs, keep(element.KeepTheirs))
		text := listed(got)
		for _, m := range []Memory{mine, theirs} {
			for _, data := range m.Contents {
				for line := range strings.Lines(string(data)) {
					line = strings.TrimSpace(line)
					if strings.Contains(line, " ") && strings.Count(text, line+"\n") != 1 {
						t.Fatalf("round %d: %q is there %d times in\n%s\nbase %s\nmine %s\ntheirs %s", round, line,
							strings.Count(text, line+"\n"), text, listed(base), listed(mine), listed(theirs))
					}
				}
			}
		}
		if len(got.Contents) != len(base.Contents) {
			t.Fatalf("round %d: %d files of %d\n%s\nmine %s\ntheirs %s", round, len(got.Contents), len(base.Contents), text, listed(mine),
				listed(theirs))
		}
	}
}
