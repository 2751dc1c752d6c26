package arrival

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/ledger"
)

// TestWhatWasTakenBackAgreesWithItsDefinition draws graphs with merges, picks and takings by
// chance, and holds Has and Missing against the definition, followed commit by commit.
// OAKEN_GRAPHS says how many graphs.
func TestWhatWasTakenBackAgreesWithItsDefinition(t *testing.T) {
	rounds := 6
	if n, err := strconv.Atoi(os.Getenv("OAKEN_GRAPHS")); err == nil {
		rounds = n
	}
	for range rounds {
		seed := rand.Uint64()
		r := rand.New(rand.NewPCG(seed, 1))
		c := chesttest.New(t, "Imke")
		s := &scribe{t: t, c: c, now: time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)}
		first := s.commit("main", ledger.Commit{}, "first", nil)
		tips := map[string]ledger.Commit{"main": first}
		all := []ledger.Commit{first}
		parents := map[ledger.ID][]ledger.ID{}
		takes, picks := map[ledger.ID][]ledger.ID{}, map[ledger.ID]ledger.ID{}
		names := []string{"main"}
		for n := range 40 {
			name := names[r.IntN(len(names))]
			if len(names) < 5 && r.IntN(5) == 0 {
				name = fmt.Sprintf("b%d", len(names))
				from := tips[names[r.IntN(len(names))]]
				s.branch(name, from)
				names, tips[name] = append(names, name), from
			}
			tip, other := tips[name], all[r.IntN(len(all))]
			var took []ledger.ID
			var picked ledger.ID
			made := s.commit(name, tip, fmt.Sprint("text ", n), func(d *chest.Draft) {
				switch r.IntN(6) {
				case 0:
					if other.ID != tip.ID {
						d.Merged = other.ID
					}
				case 1:
					if takes[other.ID] != nil || len(other.Parents) > 1 {
						return // it is nobody's work
					}
					took = []ledger.ID{other.ID}
					d.Takes = took
				case 2:
					if takes[other.ID] != nil || len(other.Parents) > 1 {
						return
					}
					picked = other.ID
					d.Picks = picked
				}
			})
			parents[made.ID] = made.Parents
			takes[made.ID] = took
			if picked != (ledger.ID{}) {
				picks[made.ID] = picked
			}
			tips[name] = made
			all = append(all, made)
		}
		root := func(id ledger.ID) ledger.ID {
			for from, ok := picks[id]; ok; from, ok = picks[id] {
				id = from
			}
			return id
		}
		var has func(at, work ledger.ID) bool
		has = func(at, work ledger.ID) bool {
			if root(at) == root(work) && takes[at] == nil {
				return true
			}
			if slices.ContainsFunc(takes[at], func(w ledger.ID) bool { return root(w) == root(work) }) {
				return false
			}
			return slices.ContainsFunc(parents[at], func(p ledger.ID) bool { return has(p, work) })
		}
		err := View(t.Context(), c, func(rd *Reader) error {
			for _, at := range all {
				for _, work := range all {
					if takes[work.ID] != nil || len(parents[work.ID]) > 1 {
						continue
					}
					if got, want := rd.Has(at, work), has(at.ID, work.ID); got != want {
						return fmt.Errorf("seed %d: %s:%d has %s:%d: %v, by the definition %v", seed, at.Branch, at.Depth, work.Branch,
							work.Depth, got, want)
					}
				}
				other := all[r.IntN(len(all))]
				missing, err := rd.Missing(at, other)
				if err != nil {
					return err
				}
				want := map[ledger.ID]bool{}
				for _, work := range all {
					if takes[work.ID] == nil && len(parents[work.ID]) < 2 && has(other.ID, work.ID) && !has(at.ID, work.ID) {
						want[root(work.ID)] = true
					}
				}
				for _, work := range missing {
					if !want[root(work.ID)] {
						return fmt.Errorf("seed %d: %s:%d misses %s:%d of %s:%d, and should not", seed, at.Branch, at.Depth, work.Branch,
							work.Depth, other.Branch, other.Depth)
					}
					delete(want, root(work.ID))
				}
				if len(want) > 0 {
					return fmt.Errorf("seed %d: %s:%d misses %d works more of %s:%d", seed, at.Branch, at.Depth, len(want),
						other.Branch, other.Depth)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestWhatTakesBackBringsNothing: a commit that takes work back may do just what other work did, by its files. It is none of that
// work, whichever of the two is read first.
func TestWhatTakesBackBringsNothing(t *testing.T) {
	for round := range 12 { // commits are read in the order of their ids, which the author's name changes
		c := chesttest.New(t, fmt.Sprint("Imke", round))
		s := &scribe{t: t, c: c, now: time.Date(2026, 6, 1, 9, round, 0, 0, time.UTC)}
		first := s.commit("main", ledger.Commit{}, "a", nil)
		names := s.commit("main", first, "b", nil)
		none := s.commit("main", names, "a", nil)
		s.branch("live", none)
		back := s.commit("live", none, "b", func(d *chest.Draft) { d.Takes = []ledger.ID{none.ID} })
		tip := s.commit("live", back, "a", func(d *chest.Draft) { d.Takes = []ledger.ID{names.ID} })
		again := s.commit("main", none, "b", nil)
		err := View(t.Context(), c, func(r *Reader) error {
			for _, work := range []ledger.Commit{names, none, again} {
				if r.Has(tip, work) {
					return fmt.Errorf("round %d: live has main:%d", round, work.Depth)
				}
			}
			missing, err := r.Missing(tip, again)
			if err == nil && len(missing) != 2 { // what is done again is the work that it was
				err = fmt.Errorf("round %d: %d works are missing, not 2", round, len(missing))
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
