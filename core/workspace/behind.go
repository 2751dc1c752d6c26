package workspace

import (
	"context"
	"errors"
	"os"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
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
	if byHand, err := w.writtenByHand(p, s.Changes); err != nil || byHand != "" {
		return nil, errors.Join(err, w.tooLate(p, byHand))
	}
	m, err := w.compute(ctx, again)
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
	c, err := w.Chest.Publish(ctx, chest.Draft{Branch: w.Branch, Tip: tip.ID, Merged: parent, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: o.Message, Item: o.Item, Settled: len(p.Settled) > 0})
	if err != nil {
		return nil, err
	}
	if err := os.Remove(w.pendingFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	_, err = w.switchFrom(ctx, journal{From: hexOf(here), Branch: w.Branch, Commit: c.ID.String()})
	return &Committed{Commit: c, Changes: changes, Merge: true}, err
}

// againOn describes a merge or revert as it is on a newer tip.
func (w *Workspace) againOn(ctx context.Context, p *Pending, tip ledger.Commit) (again *Pending, parent ledger.ID, err error) {
	if p.Parent == "" {
		q := *p
		q.Mine = hexOf(tip.Tree)
		return &q, parent, nil
	}
	if parent, err = ledger.ParseID(p.Parent); err != nil {
		return nil, parent, err
	}
	theirs, err := w.Chest.Commit(ctx, parent)
	if err != nil {
		return nil, parent, err
	}
	if again, err = w.mergeOnto(ctx, tip, tip.Tree, theirs); err != nil {
		return nil, parent, err
	}
	if again == nil {
		return nil, parent, fault.New(fault.Refused, "Give this one up with oaken merge --abandon, and run oaken sync.", "Somebody else has done it meanwhile: %s has everything of %s.", w.Branch, Label(theirs))
	}
	again.Settled = p.Settled
	return again, parent, nil
}

func (w *Workspace) tooLate(p *Pending, at string) error {
	return fault.New(fault.Conflict, "Give it up with oaken merge --abandon, run oaken sync, and do it again.",
		"Others have published to %s meanwhile, and %s can't be done on top of that as it is, because of %s.", w.Branch, p.What, at)
}

// writtenByHand gives a path that is not as a merge wrote it; empty for none.
func (w *Workspace) writtenByHand(p *Pending, changes []Change) (string, error) {
	if len(p.AsIs) > 0 {
		return p.AsIs[0], nil
	}
	seen := map[string]bool{}
	for _, c := range changes {
		for _, path := range []string{c.Path, c.From} {
			if path == "" {
				continue
			}
			seen[path] = true
			wrote, known := p.Written[path]
			d, err := w.digestHere(path)
			if err != nil || !known || wrote != d {
				return path, err
			}
		}
	}
	_, mine, _, err := w.states(p)
	if err != nil {
		return "", err
	}
	for path, wrote := range p.Written { // what was taken back by hand is no change
		if !seen[path] {
			f, err := mine.(state.Commit).At(path)
			if err != nil {
				return "", err
			}
			if is := hexOf(f.Digest); f.Mode == 0 && wrote != "" || f.Mode != 0 && is != wrote {
				return path, nil
			}
		}
	}
	return "", nil
}

// digestHere names the content of a file of the workspace; empty for none.
func (w *Workspace) digestHere(path string) (string, error) {
	f, err := w.fileAt(path)
	if err != nil || f.Mode == 0 || f.Mode == chest.Folder {
		return "", err
	}
	return hexOf(f.Digest), nil
}
