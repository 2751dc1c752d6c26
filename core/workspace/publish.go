package workspace

import (
	"context"
	"errors"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Publish publishes the held commits, with what others have published brought in first.
// Where that leaves conflicts, they are laid open as a merge that is under way, and
// nothing is published.
func (w *Workspace) Publish(ctx context.Context) (*Synced, error) {
	if w.Offline {
		return nil, chest.Explain(ledger.ErrAway)
	}
	const patience = 50 // others may publish faster than we, but not for ever
	for range patience {
		out, err := w.publishOnce(ctx)
		if !errors.Is(err, ledger.ErrMoved) {
			return out, err
		}
	}
	return nil, fault.New(fault.Refused, "Run oaken sync again; what you committed is unsent.",
		"Others publish to %s faster than this workspace can follow.", w.Branch)
}

func (w *Workspace) publishOnce(ctx context.Context) (s *Synced, err error) {
	err = w.Chest.Storing(ctx, func() error { s, err = w.publishHeld(ctx); return err })
	return s, err
}

func (w *Workspace) publishHeld(ctx context.Context) (*Synced, error) {
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	var tip ledger.Commit
	if b.Tip != (ledger.ID{}) {
		if tip, err = w.Chest.Commit(ctx, b.Tip); err != nil {
			return nil, err
		}
	}
	p, err := w.unsent.Plan(ctx, w.Project, w.Base, tip)
	if err != nil {
		return nil, err
	}
	out := &Synced{Combined: p.Artifacts}
	if out.Commits, err = w.newer(ctx, tip); err != nil {
		return nil, err
	}
	if p.Conflicts > 0 {
		return w.layOpen(ctx, p)
	}
	released, err := p.Release(ctx, w.locking.Holds)
	if err != nil {
		return nil, err
	}
	keep, edited, staged, err := w.bringEdits(ctx, p.Final)
	if err != nil {
		return nil, err
	}
	out.Combined = state.AlsoCombined(out.Combined, edited)
	drafts := make([]chest.Draft, len(p.Drafts))
	for i, d := range p.Drafts {
		drafts[i] = chest.Draft{Branch: w.Branch, Tip: tip.ID, Tree: d.Onto, Author: d.Author, Workspace: w.Name,
			Time: d.Time, Message: d.Message, Item: d.Item, Release: released[i]}
		out.Released = append(out.Released, released[i]...)
	}
	if out.Published, err = w.Chest.PublishAll(ctx, drafts); err != nil {
		return nil, err
	}
	last := tip
	if n := len(out.Published); n > 0 {
		last = out.Published[n-1]
	}
	_ = w.Chest.Gather(ctx)
	if out.Transition, err = w.switchFrom(ctx, disk.Journal{From: disk.Hex(w.tree()), Branch: w.Branch, Commit: optionalID(last.ID),
		Keep: keep, Staged: staged}); err != nil {
		return nil, err
	}
	var touched []string
	for _, d := range p.Drafts {
		touched = append(touched, d.Paths...)
	}
	return out, w.locking.Mark(ctx, touched)
}

// newer counts the commits of a tip that the base does not stand on.
func (w *Workspace) newer(ctx context.Context, tip ledger.Commit) (n int, err error) {
	if tip.ID == (ledger.ID{}) || tip.ID == w.Base.ID {
		return 0, nil
	}
	err = w.Chest.Ancestors(ctx, tip.ID, func(c ledger.Commit) (bool, error) {
		if c.ID == w.Base.ID || c.Generation <= w.Base.Generation {
			return false, nil
		}
		n++
		return true, nil
	})
	return n, err
}

// bringEdits makes room for a state that comes in: where edits that are not committed
// meet it, the two are combined, and staged. It gives the paths that were, and the
// artifacts.
func (w *Workspace) bringEdits(ctx context.Context, final content.Digest) ([]string, []state.Combined, []disk.Staged, error) {
	s, _, err := w.status(ctx, false)
	if err != nil || len(s.Changes) == 0 {
		return nil, nil, nil, err
	}
	target := ledger.Commit{Tree: final, Branch: w.Branch}
	both, err := w.editedOnBoth(ctx, s.Changes, target)
	if err != nil || len(both) == 0 {
		return nil, nil, nil, err
	}
	artifacts, staged, err := w.combine(ctx, target, both)
	return both, artifacts, staged, err
}
