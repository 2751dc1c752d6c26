package chest_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	. "oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/local"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// handles gives two handles on one chest, as two processes have them.
func handles(t *testing.T) (one, other *Chest, store *local.Folder) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "chest")
	store, err := local.Create(t.Context(), dir, "Imke", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { store.Close() })
	return New(store), chesttest.Open(t, dir), store
}

func TestOneAloneChangesAnEnvironment(t *testing.T) {
	one, other, _ := handles(t)
	var inside, most atomic.Int32
	var all sync.WaitGroup
	for n := range 8 {
		c := []*Chest{one, other}[n%2]
		all.Go(func() {
			for range 3 {
				release, err := c.Reserve(t.Context(), "live")
				if err != nil {
					t.Error(err)
					return
				}
				if n := inside.Add(1); n > most.Load() {
					most.Store(n)
				}
				time.Sleep(time.Millisecond)
				inside.Add(-1)
				release()
			}
		})
	}
	all.Wait()
	if most.Load() != 1 {
		t.Errorf("%d were at it at once", most.Load())
	}
	release, err := one.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	free, err := other.Reserve(t.Context(), "test") // another one is free
	if err != nil {
		t.Fatal(err)
	}
	free()
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := other.Reserve(short, "live"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("while it is taken: %v", err)
	}
	release()
	if release, err = other.Reserve(t.Context(), "live"); err != nil {
		t.Fatal(err)
	}
	release()
}

// TestWhoeverStandsStillLosesIt lets one renew and one stand still, for longer than a lease lives.
func TestWhoeverStandsStillLosesIt(t *testing.T) {
	t.Parallel()
	one, other, store := handles(t)
	alive, err := one.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	still := ledger.Lease{Name: "environment still", Owner: "nobody", Fence: 4}
	if err := store.Lease(t.Context(), LeaseStep{Do: TakeLease, Seen: ledger.Lease{Name: still.Name}, Take: still}); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	release, err := other.Reserve(t.Context(), "still")
	if err != nil {
		t.Fatal(err)
	}
	if took := time.Since(begun); took < Lifetime {
		t.Errorf("it was taken over after %s", took)
	}
	if err := one.Agree(t.Context(), ledger.Assent{Environment: "still", Person: "Imke"}); err != nil {
		t.Errorf("another lease is in order: %v", err)
	}
	short, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	if _, err := other.Reserve(short, "live"); err == nil {
		t.Error("one that was renewed all the while was taken over")
	}
	release()
	alive()
}

// TestASleeperRecordsNothing takes a lease over from one who sleeps and then goes on.
func TestASleeperRecordsNothing(t *testing.T) {
	sleeper, other, store := handles(t)
	release, err := sleeper.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	defer release()
	r, err := store.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	leases, err := r.Leases()
	if err = errors.Join(err, r.Close()); err != nil || len(leases) != 1 {
		t.Fatal(leases, err)
	}
	next := leases[0]
	next.Owner, next.Fence = "other", next.Fence+1
	if err := store.Lease(t.Context(), LeaseStep{Do: TakeLease, Seen: leases[0], Take: next}); err != nil {
		t.Fatal(err)
	}
	if err := sleeper.Agree(t.Context(), ledger.Assent{Environment: "live", Person: "Imke"}); fault.CodeOf(err) != fault.Refused {
		t.Errorf("who slept goes on: %v", err)
	}
	if err := other.Agree(t.Context(), ledger.Assent{Environment: "live", Person: "Tarek"}); err != nil {
		t.Error(err)
	}
}

// stored puts files into a chest under a hold, and gives the draft that names them.
func stored(ctx context.Context, c *Chest, tip ledger.ID, files map[string]string) (Draft, error) {
	b := c.Contents.Begin(ctx)
	defer b.Abandon()
	var list []File
	for p, text := range files {
		d, err := b.PutBytes([]byte(text))
		if err != nil {
			return Draft{}, err
		}
		list = append(list, File{Path: p, Mode: Plain, Size: int64(len(text)), Digest: d})
	}
	tree, err := c.WriteTree(b, list)
	if err == nil {
		err = b.Commit()
	}
	return Draft{Branch: "main", Tip: tip, Tree: tree, Author: "Imke", Workspace: "desk", Time: noon, Message: fmt.Sprint(files)}, err
}

// TestWhatIsTidiedMeanwhileIsNotCommitted tidies between storing and publishing.
func TestWhatIsTidiedMeanwhileIsNotCommitted(t *testing.T) {
	one, other, _ := handles(t)
	release, err := one.Hold(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer release()
	d, err := stored(t.Context(), one, ledger.ID{}, map[string]string{"a": "1"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Tidy(t.Context(), time.Now(), 0); err != nil {
		t.Fatal(err)
	}
	if _, err := one.Publish(t.Context(), d); fault.CodeOf(err) != fault.Refused {
		t.Errorf("its contents are gone, and it was recorded: %v", err)
	}
	if d, err = stored(t.Context(), one, ledger.ID{}, map[string]string{"a": "1"}); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Tidy(t.Context(), time.Now(), time.Hour); err != nil { // they are too young for it
		t.Fatal(err)
	}
	if _, err := one.Publish(t.Context(), d); err != nil {
		t.Errorf("its contents are all there, and it was refused: %v", err)
	}
	if x, err := other.Examine(t.Context(), nil); err != nil || len(x.Findings) > 0 {
		t.Errorf("%v, %v", x.Findings, err)
	}
}

// TestTidyingBesideCommitsLosesNothing lets several commit while others tidy all that is not reached, and
// holds every byte of every commit against its name.
func TestTidyingBesideCommitsLosesNothing(t *testing.T) {
	one, other, _ := handles(t)
	ctx := t.Context()
	var all sync.WaitGroup
	var done, again atomic.Int32
	for n := range 4 {
		c := []*Chest{one, other}[n%2]
		branch := fmt.Sprint("b", n)
		if err := c.AddBranch(ctx, ledger.Branch{Name: branch, Author: "Imke", Time: noon}); err != nil {
			t.Fatal(err)
		}
		all.Go(func() {
			var tip ledger.ID
			for k := 0; k < 8; {
				release, err := c.Hold(ctx)
				if err != nil {
					t.Error(err)
					return
				}
				d, err := stored(ctx, c, tip, map[string]string{"same": fmt.Sprint(k / 2), fmt.Sprint(n): fmt.Sprint(n, k)})
				time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
				d.Branch = branch
				var made ledger.Commit
				if err == nil {
					made, err = c.Publish(ctx, d)
				}
				release()
				switch {
				case err == nil:
					tip, k = made.ID, k+1
					done.Add(1)
				case fault.CodeOf(Explain(err)) == fault.Refused:
					again.Add(1)
				default:
					t.Error(err)
					return
				}
			}
		})
	}
	tidied := make(chan struct{})
	go func() {
		defer close(tidied)
		for done.Load() < 32 && !t.Failed() {
			if _, err := other.Tidy(ctx, time.Now(), 0); err != nil {
				t.Error(err)
				return
			}
			time.Sleep(30 * time.Millisecond)
		}
	}()
	all.Wait()
	<-tidied
	t.Logf("%d commits, %d times again", done.Load(), again.Load())
	x, err := one.Examine(ctx, nil)
	if err != nil || len(x.Findings) > 0 || x.Commits != 32 {
		t.Errorf("%d commits: %v, %v", x.Commits, x.Findings, err)
	}
}
