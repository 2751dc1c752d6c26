package overlap

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/element"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

// bay is a chest with branches, each with its files.
type bay struct {
	*testing.T
	c     *chest.Chest
	tips  map[string]ledger.Commit
	files map[string]map[string]string // of each branch
}

func newBay(t *testing.T) *bay {
	t.Helper()
	return &bay{t, chesttest.New(t, "Imke"), map[string]ledger.Commit{}, map[string]map[string]string{"main": {}}}
}

func (b *bay) finder() *Finder {
	return &Finder{Chest: b.c, Reader: &state.Reader{Kinds: all.Table(), Manifest: &manifest.Manifest{}}}
}

// commit records what a branch has.
func (b *bay) commit(branch, author string, merged ledger.ID) {
	b.Helper()
	batch := b.c.Contents.Begin(b.Context())
	var list []chest.File
	for p, text := range b.files[branch] {
		d, size, err := batch.Put(strings.NewReader(text))
		if err != nil {
			b.Fatal(err)
		}
		list = append(list, chest.File{Path: p, Mode: chest.Plain, Size: size, Digest: d})
	}
	tree, err := b.c.WriteTree(batch, list)
	if err == nil {
		err = batch.Commit()
	}
	if err == nil {
		b.tips[branch], err = b.c.Publish(b.Context(), chest.Draft{Branch: branch, Tip: b.tips[branch].ID, Merged: merged, Tree: tree,
			Author: author, Workspace: "w", Time: noon, Message: "x"})
	}
	if err != nil {
		b.Fatal(err)
	}
}

func (b *bay) branch(name, from string) {
	b.Helper()
	if err := b.c.AddBranch(b.Context(), ledger.Branch{Name: name, Tip: b.tips[from].ID, Author: "Imke", Time: noon}); err != nil {
		b.Fatal(err)
	}
	b.tips[name], b.files[name] = b.tips[from], maps.Clone(b.files[from])
}

// sides writes the sides of an overlap: who, where.
func sides(o Overlap) string {
	var out []string
	for _, s := range o.Sides {
		where := s.Branch
		if s.Workspace != "" {
			where = s.Workspace
		}
		out = append(out, s.Person+" "+where)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func TestWhoIsAtTheSameThing(t *testing.T) {
	b := newBay(t)
	b.files["main"] = map[string]string{"rules.ini": "depth=1\nwidth=1\n", "art.bin": "\x00one", "own.ini": "a=1\n", "gone.ini": "a=1\n"}
	b.commit("main", "Imke", ledger.ID{})
	b.branch("kelp", "main")
	b.branch("sand", "main")
	b.files["kelp"]["rules.ini"] = "depth=2\nwidth=1\n"
	b.files["kelp"]["art.bin"] = "\x00two"
	b.files["kelp"]["own.ini"] = "a=2\n"
	delete(b.files["kelp"], "gone.ini")
	b.commit("kelp", "Tarek", ledger.ID{})
	b.files["sand"]["rules.ini"] = "depth=1\nwidth=3\n"
	b.files["sand"]["art.bin"] = "\x00three"
	b.files["sand"]["gone.ini"] = "a=3\n"
	b.commit("sand", "Ravi", ledger.ID{})
	b.files["main"]["rules.ini"] = "depth=5\nwidth=1\n"
	b.commit("main", "Imke", ledger.ID{})
	edit := ledger.Edit{Workspace: "odalys", Path: "own.ini", State: "edited", Kind: "settings", Content: "ff", Merges: true, Since: noon,
		Told: Encode([]Told{{Address: "own.ini::setting:a.value", Change: "edited", From: "1", To: "9"}}, 0)}
	err := b.c.Announce(t.Context(),
		chest.Presence{Workspace: ledger.Workspace{Name: "odalys", Mark: "m", Person: "Odalys", Branch: "sand", Base: b.tips["sand"].ID,
			Seen: noon}, Edits: []ledger.Edit{edit}})
	if err != nil {
		t.Fatal(err)
	}
	list, err := b.finder().Everywhere(t.Context(), nil, 100)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, o := range list {
		got[o.Path] = string(o.Verdict) + ": " + sides(o)
	}
	want := map[string]string{"art.bin": "exclusive: Ravi sand, Tarek kelp", "rules.ini": "clashing: Imke main, Ravi sand, Tarek kelp",
		"gone.ini": "clashing: Ravi sand, Tarek kelp"}
	for p, w := range want {
		if got[p] != w {
			t.Errorf("%s: %q, want %q", p, got[p], w)
		}
	}
	if list[0].Path != "art.bin" {
		t.Errorf("%s comes first", list[0].Path)
	}
	if len(got) != len(want) && got["own.ini"] == "" {
		t.Errorf("overlaps: %v", got)
	}
	// The same from one side.
	work := b.finder().Chest
	here := Here{Workspace: "imke", Branch: "main", Base: b.tips["main"],
		Work: state.Commit{Chest: work, Tree: b.tips["main"].Tree, Name: "work"}, Edited: map[string]bool{}}
	here.File = func(p string) chest.File { f, _ := here.Work.(state.Commit).At(p); return f }
	around, err := b.finder().Around(t.Context(), here, []string{"rules.ini", "own.ini"})
	if err != nil || len(around) != 2 {
		t.Fatalf("%v, %v", around, err)
	}
	if around[0].Path != "rules.ini" || around[0].Verdict != Clashing || sides(around[0]) != "Ravi sand, Tarek kelp" {
		t.Errorf("around: %v", around[0])
	}
	if around[1].Verdict != Elsewhere || sides(around[1]) != "Odalys odalys, Tarek kelp" {
		t.Errorf("around: %v", around[1])
	}
}

// TestOverlapsAgainstAllPairs draws branches, some made from others, and holds what is
// found against looking at every two branches and every path.
func TestOverlapsAgainstAllPairs(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	found := 0
	for round := range 12 {
		b := newBay(t)
		for p := range 12 {
			b.files["main"][fmt.Sprintf("f%d.ini", p)] = "a=start\n"
		}
		b.commit("main", "Imke", ledger.ID{})
		names := []string{"main"}
		for n := range 40 {
			at := names[r.IntN(len(names))]
			if len(names) < 6 && r.IntN(6) == 0 {
				name := fmt.Sprint("b", len(names))
				b.branch(name, at)
				names = append(names, name)
				continue
			}
			for range 1 + r.IntN(2) {
				b.files[at][fmt.Sprintf("f%d.ini", r.IntN(12))] = fmt.Sprintf("a=%d\n", n)
			}
			b.commit(at, at, ledger.ID{})
		}
		list, err := b.finder().Everywhere(t.Context(), nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]bool{}
		for _, o := range list {
			got[o.Path] = true
		}
		want := b.allPairs(names)
		found += len(want)
		for p := range want {
			if !got[p] {
				t.Errorf("round %d: %s is changed on two branches, and was not found", round, p)
			}
		}
		for p := range got {
			if !want[p] {
				t.Errorf("round %d: %s is found, and no two branches changed it apart", round, p)
			}
		}
	}
	if found < 12 {
		t.Errorf("only %d overlaps were drawn", found)
	}
}

// allPairs lists the paths that two branches have changed, differently, since they parted,
// where the first branch has neither of the two changes.
func (b *bay) allPairs(names []string) map[string]bool {
	out := map[string]bool{}
	at := func(k ledger.Commit, p string) element.Digest {
		f, err := b.c.At(k.Tree, p)
		if err != nil {
			b.Fatal(err)
		}
		return f.Digest
	}
	base := func(x, y string) ledger.Commit {
		list, err := b.c.MergeBases(b.Context(), b.tips[x], b.tips[y])
		if err != nil || len(list) != 1 {
			b.Fatalf("%v, %v", list, err)
		}
		return list[0]
	}
	for i, x := range names {
		for _, y := range names[:i] {
			parted := base(x, y)
			for p := range b.files["main"] {
				was, mine, theirs := at(parted, p), at(b.tips[x], p), at(b.tips[y], p)
				own := func(name string, is element.Digest) bool { // its own work, not what it took from the first branch
					return name == "main" || is != at(base(name, "main"), p)
				}
				if mine != theirs && mine != was && theirs != was && own(x, mine) && own(y, theirs) {
					out[p] = true
				}
			}
		}
	}
	return out
}
