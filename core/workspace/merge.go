package workspace

import (
	"context"
	"errors"
	"os"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// MergeResult is what a merge or revert has come to.
type MergeResult struct {
	// UpToDate says that there was nothing to merge.
	UpToDate bool
	// Committed is set when no conflict was left.
	Committed *Committed
	Conflicts []element.Conflict
	// Artifacts lists what both sides had changed.
	Artifacts []state.Combined
}

// Merge brings a commit into the workspace and, when nothing is in conflict,
// commits the result. The workspace must have no changes of its own.
func (w *Workspace) Merge(ctx context.Context, theirs ledger.Commit, label, message string) (*MergeResult, error) {
	if err := errors.Join(w.reviewed(ctx, "merge"), w.quiet(ctx, "merge")); err != nil {
		return nil, err
	}
	p, err := w.mergeOf(ctx, theirs, label, message)
	if err != nil || p == nil {
		return &MergeResult{UpToDate: true}, err
	}
	return w.begin(ctx, p)
}

// mergeOf describes a merge; nil when there is nothing to merge.
func (w *Workspace) mergeOf(ctx context.Context, theirs ledger.Commit, label, message string) (*Pending, error) {
	p, err := w.merging.Onto(ctx, w.Base, w.tree(), theirs)
	if err != nil || p == nil {
		return nil, err
	}
	if message == "" {
		message = "Work of " + label + " brought into " + w.Branch
	}
	p.What, p.Message = "merge "+label, message
	return p, nil
}

// Foresee tells what Merge would come to, and changes nothing.
func (w *Workspace) Foresee(ctx context.Context, theirs ledger.Commit, label string) (*state.Merged, error) {
	p, err := w.mergeOf(ctx, theirs, label, "")
	if err != nil || p == nil {
		return nil, err
	}
	return w.merging.Compute(ctx, p)
}

// Revert undoes what a commit did, by a new commit.
func (w *Workspace) Revert(ctx context.Context, c ledger.Commit, message string) (*MergeResult, error) {
	if err := errors.Join(w.reviewed(ctx, "revert"), w.quiet(ctx, "revert")); err != nil {
		return nil, err
	}
	reached := false
	err := w.Chest.Ancestors(ctx, w.Base.ID, func(a ledger.Commit) (bool, error) {
		reached = reached || a.ID == c.ID
		return !reached && a.Generation > c.Generation, nil
	})
	if err != nil {
		return nil, err
	}
	if !reached {
		return nil, fault.New(fault.Usage, "oaken history shows the commits of this branch.", "%s is not among the commits of branch %s.",
			Label(c), w.Branch)
	}
	var before ledger.Commit
	if len(c.Parents) > 0 {
		if before, err = w.Chest.Resolve(ctx, c.Parents[0].String()); err != nil {
			return nil, err
		}
	}
	if message == "" {
		message = "Undo " + Label(c) + ": " + c.Message
	}
	return w.begin(ctx, &Pending{What: "revert " + Label(c), Message: message, Base: disk.Hex(c.Tree), Mine: disk.Hex(w.tree()),
		Theirs: disk.Hex(before.Tree)})
}

// quiet refuses when something is under way or edited here.
func (w *Workspace) quiet(ctx context.Context, what string) error {
	p, err := w.Pending()
	if err != nil {
		return err
	}
	if p != nil {
		return fault.New(fault.Conflict, "Finish it with oaken resolve and oaken commit, or give it up with oaken merge --abandon.",
			"%s is under way already.", p.What)
	}
	if len(w.unsent.Commits) > 0 {
		return w.stillHeld()
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return err
	}
	if len(s.Changes) > 0 {
		return fault.New(fault.Refused, "Commit them first, or take them back with oaken discard PATH.",
			"A %s needs a workspace without changes, and %s changed: %s.",
			what, isAre(len(s.Changes)), listed(disk.PathsOf(s.Changes)))
	}
	return nil
}

// stillHeld says that held commits must be published first.
func (w *Workspace) stillHeld() error {
	what := "A commit is"
	if n := len(w.unsent.Commits); n > 1 {
		what = itoa(n) + " commits are"
	}
	return fault.New(fault.Refused, "Publish first, with oaken sync.", "%s unsent.", what)
}

// begin runs a merge for the first time.
func (w *Workspace) begin(ctx context.Context, p *Pending) (*MergeResult, error) {
	m, err := w.merging.Compute(ctx, p)
	if err != nil {
		return nil, err
	}
	_, _, theirs, err := w.merging.States(p)
	if err != nil {
		return nil, err
	}
	if err := w.mayMerge(ctx, m, theirs); err != nil {
		return nil, err
	}
	if err := w.merging.Apply(ctx, p, m); err != nil {
		return nil, err
	}
	r := &MergeResult{Conflicts: m.Conflicts, Artifacts: m.Artifacts}
	if len(m.Conflicts) > 0 {
		return r, nil
	}
	if p.Parent == "" && len(m.Edits) == 0 {
		r.UpToDate = true
		return r, os.Remove(w.merging.File())
	}
	r.Committed, err = w.commitMerge(ctx, CommitOptions{Message: p.Message}, p)
	return r, err
}

// commitMerge records the outcome of a merge. Files need no lock for it.
func (w *Workspace) commitMerge(ctx context.Context, o CommitOptions, p *Pending) (*Committed, error) {
	m, err := w.merging.Compute(ctx, p)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict,
			"See them with oaken conflicts and settle each with oaken resolve ADDRESS --keep mine|theirs|both|base.",
			"%d of the conflicts of %s are still open.", len(m.Conflicts), p.What)
	}
	if len(o.Paths) > 0 {
		return nil, fault.New(fault.Usage, "Leave the paths out.", "A merge is committed whole.")
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	if p.Captured != nil && p.Parent == "" {
		done, err := w.PublishCaptured(ctx, *p.Captured, o.Message, o.Item, chest.Draft{})
		if err != nil {
			return nil, err
		}
		p.Parent = done.Commit.ID.String()
		o.Message, o.Item = fromThere(p.Captured.Environment, o.Message), ""
		if err := w.merging.Save(p); err != nil {
			return nil, err
		}
	}
	var parent ledger.ID
	if p.Parent != "" {
		if parent, err = ledger.ParseID(p.Parent); err != nil {
			return nil, err
		}
	}
	if p.Onto != "" {
		return w.commitOnto(ctx, o, p, s.Changes)
	}
	if o.settled, err = w.hasSettled(p, s.Changes); err != nil {
		return nil, err
	}
	c, err := w.recordNow(ctx, s.Changes, o, parent)
	if errors.Is(err, ledger.ErrMoved) {
		return w.commitBehind(ctx, o, p)
	}
	if err != nil {
		return nil, err
	}
	if p.Parked != nil {
		if err := w.Chest.Unpark(ctx, p.Parked.Person, p.Parked.Name); err != nil {
			return nil, err
		}
	}
	return c, os.Remove(w.merging.File())
}

// hasSettled reports whether people settled something in a merge, by a choice or by hand:
// it is then work of its own.
func (w *Workspace) hasSettled(p *Pending, changes []Change) (bool, error) {
	if p.Parent == "" || len(p.Settled)+len(p.AsIs) > 0 {
		return p.Parent != "", nil
	}
	byHand, err := w.merging.WrittenByHand(p, changes)
	return byHand != "", err
}
