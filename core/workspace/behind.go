package workspace

import (
	"context"
	"errors"
	"os"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// commitBehind completes a merge of a branch that others have published to meanwhile: what
// the merge came to is merged with what they published.
func (w *Workspace) commitBehind(ctx context.Context, o CommitOptions, p *Pending) (*Committed, error) {
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	tip, err := w.Chest.Commit(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	var parent ledger.ID
	if p.Parent != "" {
		if parent, err = ledger.ParseID(p.Parent); err != nil {
			return nil, err
		}
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	release, err := w.Chest.Hold(ctx, false)
	if err != nil {
		return nil, err
	}
	defer release()
	batch := w.Chest.Blobs.Begin()
	defer batch.Abandon()
	merged, changes, err := w.store(ctx, batch, s.Changes)
	if err != nil {
		return nil, err
	}
	at := func(d [32]byte, name string) state.State {
		return state.Commit{Chest: w.Chest, Tree: d, Name: name}
	}
	m, err := w.Reader().Merge(ctx, at(w.tree(), "base"), at(merged, "merged"), at(tip.Tree, Label(tip)), nil)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict, "Give it up with oaken merge --abandon, run oaken sync, and do it again.",
			"Others have published to %s meanwhile, and %s can't be combined with theirs, at %s%s.", w.Branch, p.What, m.Conflicts[0].Address, more(len(m.Conflicts)-1))
	}
	tree, err := w.amendNow(merged, incomingOf(m.Edits))
	if err != nil {
		return nil, err
	}
	c, err := w.Chest.Publish(ctx, chest.Draft{Branch: w.Branch, Tip: tip.ID, Merged: parent, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: o.Message, Item: o.Item})
	if err != nil {
		return nil, err
	}
	if err := os.Remove(w.pendingFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	_, err = w.switchFrom(ctx, merged, w.Branch, c.ID.String())
	return &Committed{Commit: c, Changes: changes, Merge: true}, err
}
