package tables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"oakenchest/core/ledger"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 123_456_789, time.UTC)

func create(t *testing.T) (*Ledger, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "ledger.db")
	l, err := Create(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l, file
}

func update(t *testing.T, l *Ledger, fn func(*Tx) error) {
	t.Helper()
	if err := l.Update(t.Context(), fn); err != nil {
		t.Fatal(err)
	}
}

func sealed(message string, parents ...ledger.ID) ledger.Commit {
	c := ledger.Commit{Branch: "main", Depth: len(parents) + 1, Generation: len(parents) + 1, Parents: parents, Author: "Imke",
		Workspace: "desk", Time: noon, Message: message, Item: "AQ-1"}
	c.Seal()
	return c
}

func TestCommitsComeBackAsTheyWere(t *testing.T) {
	l, file := create(t)
	one := sealed("one\ntwo lines, and ' quotes")
	two := sealed("two", one.ID, one.ID)
	update(t, l, func(tx *Tx) error { return errors.Join(tx.AddCommit(one), tx.AddCommit(two), tx.AddCommit(one)) })
	again, err := Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	view(t, again, func(tx *Tx) error {
		for _, want := range []ledger.Commit{one, two} {
			got, err := tx.Commit(want.ID)
			if err != nil {
				return err
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Errorf("got %v, want %v", got, want)
			}
			got.Seal()
			if got.ID != want.ID {
				t.Error("the id is not that of the fields")
			}
			found, err := tx.CommitsByPrefix(want.ID.String()[:6])
			if err != nil || len(found) != 1 || found[0].ID != want.ID {
				t.Errorf("by prefix: %v, %v", found, err)
			}
		}
		if _, err := tx.Commit(ledger.ID{9}); !errors.Is(err, ledger.ErrNotFound) {
			t.Errorf("an unknown id: %v", err)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, change := range []func(*ledger.Commit){func(c *ledger.Commit) { c.Message += "." },
		func(c *ledger.Commit) { c.Author = "Tarek" }, func(c *ledger.Commit) { c.Time = c.Time.Add(time.Millisecond) },
		func(c *ledger.Commit) { c.Parents = nil }, func(c *ledger.Commit) { c.Tree[3] = 1 }} {
		c := two
		change(&c)
		if c.Seal(); c.ID == two.ID {
			t.Error("another commit has the same id")
		}
	}
}

func TestIDsPrintAndParse(t *testing.T) {
	id := sealed("x").ID
	if got, err := ledger.ParseID(id.String()); err != nil || got != id {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"", "abc", id.String() + "0", "u" + id.String()[1:]} {
		if _, err := ledger.ParseID(bad); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func TestAFailedUpdateLeavesNothing(t *testing.T) {
	l, _ := create(t)
	boom := errors.New("boom")
	err := l.Update(t.Context(), func(tx *Tx) error {
		if err := tx.AddBranch(ledger.Branch{Name: "main", Author: "Imke", Time: noon}); err != nil {
			return err
		}
		return boom
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	func() {
		defer func() { recover() }()
		_ = l.Update(t.Context(), func(tx *Tx) error {
			_ = tx.AddBranch(ledger.Branch{Name: "main", Author: "Imke", Time: noon})
			panic("in the middle")
		})
	}()
	update(t, l, func(tx *Tx) error {
		if all, err := tx.Branches(); err != nil || len(all) != 0 {
			t.Errorf("%v, %v", all, err)
		}
		return tx.AddBranch(ledger.Branch{Name: "main", Author: "Imke", Time: noon})
	})
	if err := l.Update(t.Context(), func(tx *Tx) error { return tx.AddBranch(ledger.Branch{Name: "main"}) }); !errors.Is(err,
		ledger.ErrTaken) {
		t.Errorf("a name twice: %v", err)
	}
}

// TestWritersTakeTurns lets several connections move one tip at once: each move
// from a given commit must succeed for exactly one.
func TestWritersTakeTurns(t *testing.T) {
	l, file := create(t)
	update(t, l, func(tx *Tx) error { return tx.AddBranch(ledger.Branch{Name: "main", Author: "Imke", Time: noon}) })
	const writers, rounds = 4, 10
	var wg sync.WaitGroup
	var mu sync.Mutex
	won := map[ledger.ID]int{}
	for n := range writers {
		wg.Go(func() {
			mine, err := Open(context.Background(), file)
			if err != nil {
				t.Error(err)
				return
			}
			defer mine.Close()
			for round := range rounds {
				var from ledger.ID
				err := mine.Update(context.Background(), func(tx *Tx) error {
					b, err := tx.Branch("main")
					if err != nil {
						return err
					}
					from = b.Tip
					c := sealed(fmt.Sprint(n, round))
					c.Depth = 1 + n*rounds + round
					c.Seal()
					return errors.Join(tx.AddCommit(c), tx.MoveTip("main", from, c.ID))
				})
				if err != nil {
					t.Error(err)
				}
				mu.Lock()
				won[from]++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if len(won) != writers*rounds {
		t.Errorf("%d different tips were left, want %d", len(won), writers*rounds)
	}
	err := l.Update(t.Context(), func(tx *Tx) error { return tx.MoveTip("main", ledger.ID{1}, ledger.ID{2}) })
	if !errors.Is(err, ledger.ErrMoved) {
		t.Errorf("a move from where the branch is not: %v", err)
	}
}

func deployed(tx *Tx, c ledger.Commit, steps int) error {
	_, err := tx.AddDeployment(ledger.Deployment{Environment: "test", Commit: c.ID, Author: "Ravi", Time: noon, Steps: steps})
	return err
}

func TestLocksReleasesAndDeployments(t *testing.T) {
	l, _ := create(t)
	lock := ledger.Lock{Address: "reef.glb", Holder: "Imke", Workspace: "desk", Since: noon.Truncate(time.Millisecond), Reason: "lamp"}
	c := sealed("x")
	update(t, l, func(tx *Tx) error {
		return errors.Join(tx.AddLock(lock), tx.AddRelease(ledger.Release{Name: "spring", Commit: c.ID, Author: "Ravi", Time: noon}),
			deployed(tx, c, 1), deployed(tx, c, 2))
	})
	update(t, l, func(tx *Tx) error {
		if all, err := tx.Locks(); err != nil || len(all) != 1 || all[0] != lock {
			t.Errorf("locks: %v, %v", all, err)
		}
		if r, err := tx.Release("spring"); err != nil || r.Commit != c.ID {
			t.Errorf("release: %v, %v", r, err)
		}
		if d, err := tx.LastDeployment("test"); err != nil || d.Steps != 2 {
			t.Errorf("deployment: %v, %v", d, err)
		}
		if _, err := tx.LastDeployment("live"); !errors.Is(err, ledger.ErrNotFound) {
			t.Errorf("no deployment: %v", err)
		}
		return tx.RemoveLock("reef.glb")
	})
	if err := l.Update(t.Context(), func(tx *Tx) error { return tx.RemoveLock("reef.glb") }); !errors.Is(err, ledger.ErrNotFound) {
		t.Errorf("a lock that is gone: %v", err)
	}
}

func TestANewerLedgerIsRefused(t *testing.T) {
	l, file := create(t)
	l.Close()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("update format set version = 99"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := Open(t.Context(), file); !errors.Is(err, ledger.ErrNewer) {
		t.Errorf("got %v", err)
	}
	if _, err := Open(t.Context(), filepath.Join(t.TempDir(), "none.db")); err == nil {
		t.Error("a missing ledger was opened")
	}
}

// TestExtentsAgreeWithTheGraph builds random graphs of branches and merges and
// holds the extent of each commit against what following all parents reaches.
func TestExtentsAgreeWithTheGraph(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 20 {
		l, _ := create(t)
		var all []ledger.Commit
		tips := map[string]int{}
		before := map[ledger.ID]map[ledger.ID]bool{}
		for n := range 40 {
			c := sealed(fmt.Sprint("graph ", n))
			c.Branch, c.Depth, c.Generation, c.Parents = fmt.Sprint("b", r.IntN(4)), 1, 1, nil
			add := func(i int) {
				c.Parents = append(c.Parents, all[i].ID)
				c.Generation = max(c.Generation, all[i].Generation+1)
			}
			if i, ok := tips[c.Branch]; ok {
				c.Depth = all[i].Depth + 1
				add(i)
			} else if n > 0 {
				i := r.IntN(n)
				c.Depth = all[i].Depth + 1
				add(i)
			}
			if n > 0 && r.IntN(3) == 0 {
				add(r.IntN(n))
			}
			c.Seal()
			tips[c.Branch] = n
			before[c.ID] = map[ledger.ID]bool{c.ID: true}
			for _, p := range c.Parents {
				maps.Copy(before[c.ID], before[p])
			}
			all = append(all, c)
		}
		err := l.Update(t.Context(), func(tx *Tx) error {
			for _, c := range all {
				if err := tx.AddCommit(c); err != nil {
					return err
				}
			}
			for _, c := range all {
				x, err := tx.Extent(c)
				if err != nil {
					return err
				}
				var order []ledger.Commit
				if err := ledger.Within(tx, x, func(c ledger.Commit) (bool, error) {
					order = append(order, c)
					return true,
						nil
				}); err != nil {
					return err
				}
				for _, o := range all {
					if x.Holds(o) != before[c.ID][o.ID] {
						t.Fatalf("%s:%d holds %s:%d is %v", c.Branch, c.Depth, o.Branch, o.Depth, x.Holds(o))
					}
				}
				if len(order) != len(before[c.ID]) ||
					!slices.IsSortedFunc(order, func(a, b ledger.Commit) int { return -ledger.Older(a, b) }) {
					t.Fatalf("%d commits, want %d, or out of order", len(order), len(before[c.ID]))
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestAnOlderLedgerIsBroughtUpToDate makes one as each version before was.
func TestAnOlderLedgerIsBroughtUpToDate(t *testing.T) {
	eighth := []string{"drop table moments", "drop table gone"}
	for _, t := range all {
		if t.followed() == byMoment {
			eighth = append(eighth, "drop index "+t.title()+"_at", "alter table "+t.title()+" drop column at")
		}
	}
	seventh := append(slices.Clone(eighth), "drop table planned", "drop table bundles", "alter table approvals drop column plan",
		"alter table approvals drop column gate", "alter table accounts drop column plan", "alter table accounts drop column after")
	sixth := append(slices.Clone(seventh), "drop table leases", "drop table answers", "drop table trail")
	fifth := append(slices.Clone(sixth), "drop index touches_commit", "drop table proofs", "drop table takings", "drop table absences",
		"drop table attempts", "drop table pending", "drop table choices", "drop table approved_trees")
	fourth := append(slices.Clone(fifth), "drop table accounts", "drop table approvals", "drop table bookings", "drop table picks",
		"drop table deeds", "drop table settled", "drop table distincts", "drop table looks")
	third := append(slices.Clone(fourth), "drop index locks_patterns", "alter table locks drop column ends",
		"alter table locks drop column sort", "drop table workspaces", "drop table edits", "drop table notices", "drop table parked",
		"drop table reviews", "drop table remarks")
	second := append(slices.Clone(third), "drop table kept", "drop table undone")
	first := append(slices.Clone(second), "drop table touches", "alter table branches drop column sum",
		"alter table releases drop column sum", "alter table locks drop column sum", "alter table deployments drop column sum",
		"drop index commits_branch", "drop index commits_merges", "drop index commits_order")
	for version, statements := range map[int][]string{1: first, 2: second, 3: third, 4: fourth, 5: fifth, 6: sixth, 7: seventh,
		8: eighth} {
		l, file := create(t)
		c := sealed("old")
		if err := l.Update(t.Context(), func(tx *Tx) error {
			if err := errors.Join(tx.AddCommit(c), tx.AddTouches(c.ID, nil),
				tx.AddLock(ledger.Lock{Address: "reef.glb", Holder: "Imke", Since: noon})); err != nil {
				return err
			}
			for _, s := range append(statements, fmt.Sprintf("update format set version = %d", version)) {
				if _, err := tx.tx.ExecContext(tx.ctx, s); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		l.Close()
		for range 2 {
			l, err := Open(t.Context(), file)
			if err != nil {
				t.Fatal(err)
			}
			err = l.Update(t.Context(), func(tx *Tx) error {
				broad, err := tx.Broad()
				if flaws, err := tx.Flaws(); err != nil || len(flaws) > 0 {
					return fmt.Errorf("%v, %w", flaws, err)
				}
				if err == nil && (len(broad) != 1 || broad[0].ID != c.ID) {
					err = fmt.Errorf("broad commits: %v", broad)
				}
				if _, kept := tx.LastKept("test"); kept != ledger.ErrNotFound {
					err = errors.Join(err, kept)
				}
				return err
			})
			if err = errors.Join(err, l.Close()); err != nil {
				t.Fatalf("version %d: %v", version, err)
			}
		}
	}
}

// TestWhatIsKeptBelongsToItsDeployment keeps states before deployments, one of which is
// never finished, and takes them back.
func TestWhatIsKeptBelongsToItsDeployment(t *testing.T) {
	l, _ := create(t)
	defer l.Close()
	now := time.UnixMilli(1_700_000_000_000).UTC()
	deploy := func(tx *Tx, tree string, finish bool) {
		t.Helper()
		id, err := tx.Keep(ledger.Kept{Environment: "test", Time: now, Tree: tree})
		if err == nil && finish {
			var n int64
			if n, err = tx.AddDeployment(ledger.Deployment{Environment: "test", Author: "Imke", Time: now}); err == nil {
				err = tx.Number(id, n)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	last := func(tx *Tx) (string, int64) {
		k, err := tx.LastKept("test")
		if err != nil && err != ledger.ErrNotFound {
			t.Fatal(err)
		}
		return k.Tree, k.Deployment
	}
	err := l.Update(t.Context(), func(tx *Tx) error {
		deploy(tx, "one", true)
		deploy(tx, "two", true)
		if _, err := tx.AddDeployment(ledger.Deployment{Environment: "test", Time: now}); err != nil { // changed nothing
			return err
		}
		deploy(tx, "half", false)
		k, err := tx.LastKept("test")
		if err != nil || k.Tree != "half" || k.Deployment != 0 {
			t.Errorf("kept %+v, %v", k, err)
		}
		if err := tx.Forget(k.ID); err != nil {
			return err
		}
		if tree, n := last(tx); tree != "two" || n != 2 {
			t.Errorf("then %s of %d", tree, n)
		}
		k, _ = tx.LastKept("test")
		if err := tx.Undo("test", k.Deployment, ledger.Undone{Author: "Tarek", Workspace: "w", Time: now}); err != nil {
			return err
		}
		if tree, n := last(tx); tree != "one" || n != 1 {
			t.Errorf("then %s of %d", tree, n)
		}
		d, err := tx.LastDeployment("test")
		if err != nil || d.Number != 1 {
			t.Errorf("the last deployment is %+v, %v", d, err)
		}
		flaws, err := tx.Flaws()
		if len(flaws) > 0 {
			t.Error(flaws)
		}
		all, _ := tx.AllKept()
		if len(all) != 2 {
			t.Errorf("%d are kept", len(all))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}
