package chest

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"oakenchest/core/ledger"
)

func TestOneAloneChangesAnEnvironment(t *testing.T) {
	c, err := Create(t.Context(), filepath.Join(t.TempDir(), "chest"), "Imke", time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	var inside, most atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 5 {
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
	release, err := c.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	other, err := c.Reserve(t.Context(), "test") // another one is free
	if err != nil {
		t.Fatal(err)
	}
	other()
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := c.Reserve(short, "live"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("while it is taken: %v", err)
	}
	release()
	release, err = c.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	release()
}

// TestADeadOwnerLosesIt leaves a lease of a process that is no more, and one that nothing
// was written into.
func TestADeadOwnerLosesIt(t *testing.T) {
	c, err := Create(t.Context(), filepath.Join(t.TempDir(), "chest"), "Imke", time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	release, err := c.Reserve(t.Context(), "live")
	if err != nil {
		t.Fatal(err)
	}
	list, err := filepath.Glob(filepath.Join(c.holds(), "environment-*"))
	if err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	name := list[0]
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	release()
	gone := exec.Command("true")
	if err := gone.Run(); err != nil {
		t.Skip("no program that ends at once: ", err)
	}
	dead := strings.Replace(string(text), `"process":`+digits(os.Getpid()), `"process":`+digits(gone.ProcessState.Pid()), 1)
	if err := os.WriteFile(name, []byte(dead), 0o666); err != nil {
		t.Fatal(err)
	}
	if release, err = c.Reserve(t.Context(), "live"); err != nil {
		t.Fatal(err)
	}
	release()
	if err := os.WriteFile(name, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-2 * renewal)
	if err := os.Chtimes(name, old, old); err != nil {
		t.Fatal(err)
	}
	if release, err = c.Reserve(t.Context(), "live"); err != nil {
		t.Fatal(err)
	}
	release()
}

func digits(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return digits(n/10) + digits(n%10)
}

func TestADeploymentConcludesWholeOrNotAtAll(t *testing.T) {
	ctx := t.Context()
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	c, err := Create(ctx, filepath.Join(t.TempDir(), "chest"), "Imke", now)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	tree := func(text string) string {
		d, err := c.Store(ctx, []KeptFile{InMemory("a.txt", []byte(text))})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	draft := func(branch string, tip ledger.ID, text string) Draft {
		k, err := treeOf(ledger.Kept{Tree: tree(text)})
		if err != nil {
			t.Fatal(err)
		}
		return Draft{Branch: branch, Tip: tip, Tree: k, Author: "Imke", Workspace: "w", Time: now, Message: text}
	}
	first, err := c.Publish(ctx, draft("main", ledger.ID{}, "one"))
	if err != nil {
		t.Fatal(err)
	}
	kept, err := c.Keep(ctx, "live", []KeptFile{InMemory("was/a.txt", []byte("zero"))}, now)
	if err != nil {
		t.Fatal(err)
	}
	x := Conclusion{
		Drafts: []Draft{draft("live", first.ID, "two"), draft("live", ledger.ID{}, "three")}, Kept: []int64{kept, 0},
		NewBranch:  ledger.Branch{Name: "live", Tip: first.ID, Author: "Ravi", Time: now},
		Deployment: ledger.Deployment{Environment: "live", Author: "Ravi", Workspace: "w", Time: now, Source: "env:test", Steps: 2},
		Account:    ledger.Account{Action: "promote", Origin: "test", Lane: "Exhibit", Source: first.ID, Began: now, Took: time.Second, Gates: "[]", Items: []string{"AQ-1", "AQ-2"}, Reason: "none", Tree: tree("steps")},
	}
	x.Drafts[0].Picks = first.ID
	done, err := c.Conclude(ctx, x)
	last := done.Commit
	if err != nil {
		t.Fatal(err)
	}
	if last.Branch != "live" || last.Depth != 3 || last.Message != "three" {
		t.Errorf("the last commit: %+v", last)
	}
	list, err := c.Deployments(ctx, "live")
	if err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	d := list[0]
	if d.Commit.ID != last.ID || d.Account == nil || d.Account.Took != time.Second || len(d.Account.Items) != 2 || d.Account.Source != first.ID || !d.Account.Began.Equal(now) || d.Undone != nil {
		t.Errorf("the record: %+v %+v", d, d.Account)
	}
	if files, err := c.Stored(d.Account.Tree); err != nil || string(files["a.txt"]) != "steps" {
		t.Errorf("what is stored with it: %v, %v", files, err)
	}
	since, err := c.KeptSince(ctx, "live")
	if err != nil || len(since) != 1 || since[0].Deployment != d.Number {
		t.Errorf("kept: %v, %v", since, err)
	}
	// The branch has moved on: nothing of a second one is recorded.
	x.NewBranch = ledger.Branch{}
	if _, err := c.Conclude(ctx, x); !errors.Is(err, ledger.ErrMoved) {
		t.Errorf("on an old tip: %v", err)
	}
	if list, err = c.Deployments(ctx, ""); err != nil || len(list) != 1 {
		t.Errorf("after that: %d, %v", len(list), err)
	}
	if _, err := c.TakeBack(ctx, TakingBack{Kept: since[:1], Author: "Sefa", Workspace: "w", Time: now}); err != nil {
		t.Fatal(err)
	}
	if list, err = c.Deployments(ctx, ""); err != nil || list[0].Undone == nil || list[0].Undone.Author != "Sefa" {
		t.Errorf("taken back: %+v, %v", list, err)
	}
	x2, err := c.Examine(ctx, nil)
	if err != nil || len(x2.Findings) != 0 {
		t.Errorf("health: %v, %v", x2.Findings, err)
	}
}
