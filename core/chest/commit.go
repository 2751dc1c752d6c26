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
}

// Publish records a commit and moves the branch to it, in one transaction. The
// bytes that it names must be committed before. When the branch has moved, it
// is refused and nothing changes.
func (c *Chest) Publish(ctx context.Context, d Draft) (ledger.Commit, error) {
	touches, err := c.touches(ctx, d)
	if err != nil {
		return ledger.Commit{}, Explain(err)
	}
	commit := ledger.Commit{Branch: d.Branch, Depth: 1, Generation: 1, Tree: d.Tree, Author: d.Author, Workspace: d.Workspace, Time: d.Time, Message: d.Message, Item: d.Item}
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		for _, id := range []ledger.ID{d.Tip, d.Merged} {
			if id == (ledger.ID{}) {
				continue
			}
			p, err := tx.Commit(id)
			if err != nil {
				return err
			}
			if len(commit.Parents) == 0 {
				commit.Depth = p.Depth + 1
			}
			commit.Parents = append(commit.Parents, id)
			commit.Generation = max(commit.Generation, p.Generation+1)
		}
		commit.Seal()
		if err := tx.MoveTip(d.Branch, d.Tip, commit.ID); err != nil {
			return err
		}
		if err := errors.Join(tx.AddCommit(commit), tx.AddTouches(commit.ID, touches)); err != nil {
			return err
		}
		for _, address := range d.Release {
			if err := tx.RemoveLock(address); err != nil && !errors.Is(err, ledger.ErrNotFound) {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, ledger.ErrMoved) {
		moved := fault.New(fault.Refused, "Nothing was recorded. Bring them in with oaken sync, and commit again.",
			"Branch %s has newer commits than this workspace.", d.Branch)
		moved.Err = ledger.ErrMoved
		return commit, moved
	}
	return commit, Explain(err)
}
