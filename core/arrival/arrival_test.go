package arrival

import (
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
)

// scribe publishes commits of one file each.
type scribe struct {
	t   *testing.T
	c   *chest.Chest
	now time.Time
}

func (s *scribe) tree(text string) element.Digest {
	s.t.Helper()
	batch := s.c.Contents.Begin(s.t.Context())
	defer batch.Abandon()
	d, err := batch.PutBytes([]byte(text))
	if err != nil {
		s.t.Fatal(err)
	}
	tree, err := s.c.WriteTree(batch, []chest.File{{Path: "lamp.txt", Mode: chest.Plain, Size: int64(len(text)), Digest: d}})
	if err == nil {
		err = batch.Commit()
	}
	if err != nil {
		s.t.Fatal(err)
	}
	return tree
}

// commit publishes one on top of another, with more as the rest says.
func (s *scribe) commit(branch string, on ledger.Commit, text string, more func(*chest.Draft)) ledger.Commit {
	s.t.Helper()
	s.now = s.now.Add(time.Minute)
	d := chest.Draft{Branch: branch, Tip: on.ID, Tree: s.tree(text), Author: "Imke", Workspace: "w", Time: s.now, Message: text}
	if more != nil {
		more(&d)
	}
	c, err := s.c.Publish(s.t.Context(), d)
	if err != nil {
		s.t.Fatal(err)
	}
	return c
}

func (s *scribe) branch(name string, at ledger.Commit) {
	s.t.Helper()
	if err := s.c.AddBranch(s.t.Context(), ledger.Branch{Name: name, Tip: at.ID, Author: "Imke", Time: s.now}); err != nil {
		s.t.Fatal(err)
	}
}

func TestWorkArrivesInEachWay(t *testing.T) {
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	c := chesttest.New(t, "Imke")
	s := &scribe{t, c, now}
	first := s.commit("main", ledger.Commit{}, "dim", nil)
	s.branch("lane", first)
	s.branch("far", first)
	bright := s.commit("main", first, "bright", nil)
	dim := s.commit("main", bright, "dim", nil)
	again := s.commit("main", dim, "bright", nil)
	warm := s.commit("main", again, "warm", nil)

	byHand := s.commit("lane", first, "bright", nil)                                       // the very same as bright, and as again
	picked := s.commit("lane", byHand, "warm", func(d *chest.Draft) { d.Picks = warm.ID }) // by way of the record
	merge := s.commit("lane", picked, "warm", func(d *chest.Draft) { d.Merged = dim.ID })  // a plain merge
	settled := s.commit("lane", merge, "hot", func(d *chest.Draft) { d.Merged, d.Settled = again.ID, true })
	further := s.commit("far", first, "warm", func(d *chest.Draft) { d.Picks = picked.ID }) // a pick of a pick

	err := View(t.Context(), c, func(r *Reader) error {
		for _, q := range []struct {
			name   string
			at, of ledger.Commit
			want   string // the messages of what is missing
		}{
			{"everything, to the first", first, warm, "bright dim bright warm"},
			{"nothing, to itself", warm, warm, ""},
			{"the very same change counts, also where it was made twice", byHand, warm, "dim warm"},
			{"a change made, undone and made again is not there yet", dim, again, "bright"},
			{"a pick counts", picked, warm, "dim"},
			{"a merge counts", merge, warm, ""},
			{"a plain merge is no work, a settled one is", warm, settled, "hot"},
			{"the same change made elsewhere is no news", warm, merge, ""},
			{"a pick of a pick brings the first", further, warm, "bright dim bright"},
			{"and is no work where that is", warm, further, ""},
			{"to nothing, everything", ledger.Commit{}, byHand, "dim bright"},
		} {
			list, err := r.Missing(q.at, q.of)
			if err != nil {
				return err
			}
			var got []string
			for _, c := range list {
				got = append(got, c.Message)
			}
			if strings.Join(got, " ") != q.want {
				t.Errorf("%s: missing %q, want %q", q.name, strings.Join(got, " "), q.want)
			}
		}
		both, err := r.MissingOf(first, []ledger.Commit{bright, further})
		if err != nil {
			return err
		}
		if len(both) != 2 {
			t.Errorf("of two together: %d", len(both))
		}
		if !r.Has(picked, warm) || r.Has(byHand, warm) || r.Root(further.ID) != warm.ID {
			t.Error("Has or Root is wrong")
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
