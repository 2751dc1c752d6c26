package chest_test

import (
	"errors"
	"testing"
	"time"

	. "oakenchest/core/chest"
	"oakenchest/core/ledger"
)

func TestADeploymentConcludesWholeOrNotAtAll(t *testing.T) {
	ctx := t.Context()
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	c := create(t)
	tree := func(text string) string {
		d, err := c.Store(ctx, []KeptFile{InMemory("a.txt", []byte(text))})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	draft := func(branch string, tip ledger.ID, text string) Draft {
		k, err := TreeOf(ledger.Kept{Tree: tree(text)})
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
		Account: ledger.Account{Action: "promote", Origin: "test", Lane: "Exhibit", Source: first.ID, Began: now, Took: time.Second,
			Gates: "[]", Items: []string{"AQ-1", "AQ-2"}, Reason: "none", Tree: tree("steps")},
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
	if d.Commit.ID != last.ID || d.Account == nil || d.Account.Took != time.Second || len(d.Account.Items) != 2 ||
		d.Account.Source != first.ID || !d.Account.Began.Equal(now) || d.Undone != nil {
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
