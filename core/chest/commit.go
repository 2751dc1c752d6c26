package chest

import (
	"context"
	"errors"
	"time"

	"oakenchest/core/blob"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Draft is a commit to be made.
type Draft struct {
	Branch string
	// Tip is where the branch is believed to be; zero before the first commit.
	Tip ledger.ID
	// Merged is a second parent; zero for none.
	Merged    ledger.ID
	Tree      blob.Digest
	Author    string
	Workspace string
	Time      time.Time
	Message   string
	Item      string
	// Release lists addresses whose locks end with the commit.
	Release []string
	// Picks is the commit whose work this one brings; zero for none.
	Picks ledger.ID
	// Takes are the works that this commit takes back.
	Takes []ledger.ID
	// Settled says, of a merge, that people settled something in it.
	Settled bool
}

// Publish records a commit and moves the branch to it, in one transaction. The
// bytes that it names must be committed before. When the branch has moved, it
// is refused and nothing changes.
func (c *Chest) Publish(ctx context.Context, d Draft) (ledger.Commit, error) {
	if err := c.Allowed(ctx, d); err != nil {
		return ledger.Commit{}, err
	}
	touches, err := c.touches(ctx, d)
	if err != nil {
		return ledger.Commit{}, Explain(err)
	}
	var commit ledger.Commit
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error { commit, err = publish(tx, d, touches); return err })
	return commit, overtaken(d.Branch, err)
}

// overtaken says for people that others have published to a branch.
func overtaken(branch string, err error) error {
	if !errors.Is(err, ledger.ErrMoved) {
		return Explain(err)
	}
	e := fault.New(fault.Refused, "Nothing was recorded. Bring them in with oaken sync, and commit again.",
		"Branch %s has newer commits than this workspace.", branch)
	e.Err = ledger.ErrMoved
	return e
}

// publish records a commit and moves the branch to it.
func publish(tx *ledger.Tx, d Draft, t traces) (ledger.Commit, error) {
	commit := ledger.Commit{Branch: d.Branch, Depth: 1, Generation: 1, Tree: d.Tree, Author: d.Author, Workspace: d.Workspace, Time: d.Time, Message: d.Message, Item: d.Item}
	for _, id := range []ledger.ID{d.Tip, d.Merged} {
		if id == (ledger.ID{}) {
			continue
		}
		p, err := tx.Commit(id)
		if err != nil {
			return commit, err
		}
		if len(commit.Parents) == 0 {
			commit.Depth = p.Depth + 1
		}
		commit.Parents = append(commit.Parents, id)
		commit.Generation = max(commit.Generation, p.Generation+1)
	}
	commit.Seal()
	if err := tx.MoveTip(d.Branch, d.Tip, commit.ID); err != nil {
		return commit, err
	}
	if err := errors.Join(tx.AddCommit(commit), tx.AddTouches(commit.ID, t.touches)); err != nil {
		return commit, err
	}
	if t.deed != "" {
		if err := tx.AddDeed(commit.ID, t.deed); err != nil {
			return commit, err
		}
	}
	if d.Picks != (ledger.ID{}) {
		if err := tx.AddPick(commit.ID, d.Picks); err != nil {
			return commit, err
		}
	}
	for _, work := range d.Takes {
		if err := tx.AddTaking(commit.ID, work); err != nil {
			return commit, err
		}
	}
	if d.Settled {
		if err := tx.AddSettled(commit.ID); err != nil {
			return commit, err
		}
	}
	for _, address := range d.Release {
		if err := tx.RemoveLock(address); err != nil && !errors.Is(err, ledger.ErrNotFound) {
			return commit, err
		}
	}
	return commit, nil
}
