package history

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/ledger"
)

var noon = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

// scribe makes commits of small trees.
type scribe struct {
	t       *testing.T
	chest   *chest.Chest
	tips    map[string]ledger.Commit
	trees   map[ledger.ID]map[string]string // what each commit holds
	parents map[ledger.ID][]ledger.ID
	clock   time.Time
}

func newScribe(t *testing.T) *scribe {
	return &scribe{t, chesttest.New(t, "Imke"), map[string]ledger.Commit{}, map[ledger.ID]map[string]string{},
		map[ledger.ID][]ledger.ID{}, noon}
}

func (s *scribe) commit(branch string, files map[string]string, merged ledger.ID) ledger.Commit {
	s.t.Helper()
	b := s.chest.Contents.Begin(s.t.Context())
	var list []chest.File
	for p, text := range files {
		d, err := b.PutBytes([]byte(text))
		if err != nil {
			s.t.Fatal(err)
		}
		list = append(list, chest.File{Path: p, Mode: chest.Plain, Size: int64(len(text)), Digest: d})
	}
	tree, err := s.chest.WriteTree(b, list)
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		s.t.Fatal(err)
	}
	s.clock = s.clock.Add(time.Minute)
	c, err := s.chest.Publish(s.t.Context(), chest.Draft{Branch: branch, Tip: s.tips[branch].ID, Merged: merged, Tree: tree, Author: "Imke",
		Workspace: "desk", Time: s.clock, Message: fmt.Sprint(len(s.trees))})
	if err != nil {
		s.t.Fatal(err)
	}
	s.tips[branch], s.trees[c.ID], s.parents[c.ID] = c, maps.Clone(files), c.Parents
	return c
}

// expected gives, by trees alone, the commits up to a tip that have a path
// otherwise than all that they stand on.
func (s *scribe) expected(tip ledger.ID, path string) map[ledger.ID]bool {
	out, seen := map[ledger.ID]bool{}, map[ledger.ID]bool{}
	waiting := []ledger.ID{tip}
	for len(waiting) > 0 {
		id := waiting[0]
		waiting = waiting[1:]
		if seen[id] {
			continue
		}
		seen[id] = true
		differs := true
		for _, p := range s.parents[id] {
			differs = differs && s.trees[p][path] != s.trees[id][path]
		}
		if differs && (len(s.parents[id]) > 0 || s.trees[id][path] != "") {
			out[id] = true
		}
		waiting = append(waiting, s.parents[id]...)
	}
	return out
}

// TestVersionsAgreeWithTheTrees makes random commits on several branches, with
// merges, and holds the history of each path against the trees.
func TestVersionsAgreeWithTheTrees(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	paths := []string{"a.txt", "b/c.txt", "b/d.txt", "b2.txt"}
	for round := range 8 {
		s := newScribe(t)
		files := map[string]string{"a.txt": "first of a", "b/c.txt": "first of c"}
		s.commit("main", files, ledger.ID{})
		branches := []string{"main"}
		for n := range 40 {
			if r.IntN(8) == 0 && len(branches) < 4 {
				name, from := fmt.Sprint("branch ", n), branches[r.IntN(len(branches))]
				if err := s.chest.AddBranch(t.Context(), ledger.Branch{Name: name, Tip: s.tips[from].ID, Author: "Imke",
					Time: noon}); err != nil {
					t.Fatal(err)
				}
				s.tips[name] = s.tips[from]
				branches = append(branches, name)
				continue
			}
			branch := branches[r.IntN(len(branches))]
			files := maps.Clone(s.trees[s.tips[branch].ID])
			p := paths[r.IntN(len(paths))]
			merged := ledger.ID{}
			switch other := branches[r.IntN(len(branches))]; {
			case r.IntN(4) == 0 && other != branch && s.tips[other].ID != s.tips[branch].ID:
				merged = s.tips[other].ID
				if r.IntN(2) == 0 {
					files[p] = s.trees[merged][p]
				}
				fallthrough
			case r.IntN(5) > 0:
				files[p] = fmt.Sprint("text ", round, " ", n) // never the same twice, so nothing moves
			default:
				delete(files, p)
			}
			maps.DeleteFunc(files, func(_, text string) bool { return text == "" })
			s.commit(branch, files, merged)
		}
		for _, b := range branches {
			for _, p := range paths {
				entries, more, err := List(t.Context(), s.chest, s.tips[b], Query{Path: p})
				if err != nil || more {
					t.Fatal(err)
				}
				want := s.expected(s.tips[b].ID, p)
				for i, e := range entries {
					if !want[e.Commit.ID] || e.Version != len(entries)-i || e.Versions != len(want) {
						t.Fatalf("round %d: %s on %s: %s:%d is version %d of %d", round, p, b, e.Commit.Branch, e.Commit.Depth,
							e.Version, e.Versions)
					}
				}
				if len(entries) != len(want) ||
					!slices.IsSortedFunc(entries, func(a, b Entry) int { return -ledger.Older(a.Commit, b.Commit) }) {
					t.Fatalf("round %d: %s on %s has %d versions, want %d", round, p, b, len(entries), len(want))
				}
			}
			all, _, err := List(t.Context(), s.chest, s.tips[b], Query{})
			if err != nil || len(all) == 0 || all[0].Commit.ID != s.tips[b].ID {
				t.Fatalf("round %d: all of %s: %d, %v", round, b, len(all), err)
			}
		}
	}
}

// TestRenamesAreFollowedOnBothSides moves a file on one branch while another
// edits it under its old name.
func TestRenamesAreFollowedOnBothSides(t *testing.T) {
	s := newScribe(t)
	s.commit("main", map[string]string{"old.txt": "a lamp"}, ledger.ID{})
	if err := s.chest.AddBranch(t.Context(), ledger.Branch{Name: "kelp", Tip: s.tips["main"].ID, Author: "Imke", Time: noon}); err != nil {
		t.Fatal(err)
	}
	s.tips["kelp"] = s.tips["main"]
	s.commit("main", map[string]string{"new.txt": "a lamp"}, ledger.ID{})
	s.commit("kelp", map[string]string{"old.txt": "a larger lamp"}, ledger.ID{})
	s.commit("main", map[string]string{"new.txt": "a larger lamp", "old.txt": "another thing of that name"}, s.tips["kelp"].ID)
	entries, _, err := List(t.Context(), s.chest, s.tips["main"], Query{Path: "new.txt"})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, e := range entries {
		got = append(got, fmt.Sprintf("%s:%d %s %s", e.Commit.Branch, e.Commit.Depth, e.Path, e.From))
	}
	want := []string{"main:3 new.txt ", "kelp:2 old.txt ", "main:2 new.txt old.txt", "main:1 old.txt "}
	if !slices.Equal(got, want) {
		t.Errorf("got %q", got)
	}
}
