package workspace

import (
	"context"
	"errors"
	"os"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/workspace/disk"
)

// commitBehind completes a merge into a branch that others have published to meanwhile: it
// is done again on what they published, with the choices that were made. What was written
// by hand, or what these choices don't settle, can't be: the merge then stays as it is.
func (w *Workspace) commitBehind(ctx context.Context, o CommitOptions, p *Pending) (*Committed, error) {
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	tip, err := w.Chest.Commit(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	again, parent, err := w.againOn(ctx, p, tip)
	if err != nil {
		return nil, err
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	if byHand, err := w.merging.WrittenByHand(p, s.Changes); err != nil || byHand != "" {
		return nil, errors.Join(err, w.tooLate(p, byHand))
	}
	m, err := w.merging.Compute(ctx, again)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		return nil, w.tooLate(p, m.Conflicts[0].Address.String())
	}
	release, err := w.Chest.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	batch := w.Chest.Contents.Begin(ctx)
	defer batch.Abandon()
	here, changes, err := w.store(ctx, batch, s.Changes)
	if err != nil {
		return nil, err
	}
	tree, err := w.AmendNow(ctx, tip.Tree, project.IncomingOf(m.Edits))
	if err != nil {
		return nil, err
	}
	c, err := w.Chest.Publish(ctx, chest.Draft{Branch: w.Branch, Tip: tip.ID, Merged: parent, Tree: tree, Author: w.Person,
		Workspace: w.Name, Time: w.host.Now(), Message: o.Message, Item: o.Item, Settled: len(p.Settled) > 0})
	if err != nil {
		return nil, err
	}
	if err := os.Remove(w.merging.File()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	_, err = w.switchFrom(ctx, disk.Journal{From: disk.Hex(here), Branch: w.Branch, Commit: c.ID.String()})
	return &Committed{Commit: c, Changes: changes, Merge: true}, err
}

// againOn describes a merge or revert as it is on a newer tip.
func (w *Workspace) againOn(ctx context.Context, p *Pending, tip ledger.Commit) (again *Pending, parent ledger.ID, err error) {
	if p.Parent == "" {
		q := *p
		q.Mine = disk.Hex(tip.Tree)
		return &q, parent, nil
	}
	if parent, err = ledger.ParseID(p.Parent); err != nil {
		return nil, parent, err
	}
	theirs, err := w.Chest.Commit(ctx, parent)
	if err != nil {
		return nil, parent, err
	}
	if again, err = w.merging.Onto(ctx, tip, tip.Tree, theirs); err != nil {
		return nil, parent, err
	}
	if again == nil {
		return nil, parent, fault.New(fault.Refused, "Give this one up with oaken merge --abandon, and run oaken sync.",
			"Somebody else has done it meanwhile: %s has everything of %s.", w.Branch, Label(theirs))
	}
	again.Settled = p.Settled
	return again, parent, nil
}

func (w *Workspace) tooLate(p *Pending, at string) error {
	return fault.New(fault.Conflict, "Give it up with oaken merge --abandon, run oaken sync, and do it again.",
		"Others have published to %s meanwhile, and %s can't be done on top of that as it is, because of %s.", w.Branch, p.What, at)
}
