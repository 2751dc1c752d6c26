package workspace

import (
	"context"
	"errors"
	"os"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
	"oakenchest/core/workspace/merging"
)

// A Capture is what an environment was found to hold, on its way into a commit.
type Capture = merging.Capture

func (w *Workspace) capturesFile() string { return w.disk.Own("captures.json") }

// Captures lists what was captured into this workspace and is not committed yet.
func (w *Workspace) Captures() (out []Capture, err error) {
	err = w.disk.ReadSealed("captures.json", &out)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.New(fault.Damaged, "Remove it, and capture again.",
			"The record of what was captured, .oaken/captures.json, can't be read.")
	}
	return out, nil
}

// setCaptures writes the list; an empty one removes the file.
func (w *Workspace) setCaptures(list []Capture) error {
	if len(list) > 0 {
		return w.disk.WriteSealed("captures.json", list)
	}
	if err := os.Remove(w.capturesFile()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// TakeCaptured writes what was captured into the workspace, where it lies like an edit until
// it is committed. Where a file was edited here, a copy of that is kept.
func (w *Workspace) TakeCaptured(ctx context.Context, c Capture, files map[string][]byte) (paths []string, rescued string, err error) {
	list, err := w.Captures()
	if err != nil {
		return nil, "", err
	}
	list = slices.DeleteFunc(list, func(o Capture) bool { return o.Environment == c.Environment })
	if err := w.setCaptures(append(list, c)); err != nil {
		return nil, "", err
	}
	return w.WriteFiles(ctx, "", files)
}

// TakeMore adds files to what was captured of an environment and is not committed yet; c is
// for when nothing was.
func (w *Workspace) TakeMore(ctx context.Context, c Capture, files map[string][]byte) (paths []string, err error) {
	list, err := w.Captures()
	if err != nil {
		return nil, err
	}
	for _, o := range list {
		if o.Environment == c.Environment {
			c = o
		}
	}
	tree, err := disk.FromHex(c.Tree)
	if err == nil {
		tree, err = w.TreeWith(ctx, tree, files)
	}
	if err != nil {
		return nil, err
	}
	c.Tree = disk.Hex(tree)
	paths, _, err = w.TakeCaptured(ctx, c, files)
	return paths, err
}

// MergeCaptured begins the merge of what was captured into what the branch has become since:
// the environment's record is what both have in common. The workspace must have no changes
// of its own.
func (w *Workspace) MergeCaptured(ctx context.Context, c Capture) (*MergeResult, error) {
	if err := errors.Join(w.reviewed(ctx, "capture"), w.quiet(ctx, "capture that is to be combined with newer work")); err != nil {
		return nil, err
	}
	p := &Pending{What: "capture " + c.Environment, Message: "What was changed in " + c.Environment, Mine: disk.Hex(w.tree()),
		Theirs: c.Tree, Captured: &c, Base: disk.Hex(content.Digest{})}
	if c.Record != "" {
		at, err := w.captureRecord(ctx, c)
		if err != nil {
			return nil, err
		}
		g, err := w.Ground(ctx, w.Base, at)
		if err != nil {
			return nil, err
		}
		p.Stand(g)
	}
	m, err := w.merging.Compute(ctx, p)
	if err != nil {
		return nil, err
	}
	if err := w.merging.Apply(ctx, p, m); err != nil {
		return nil, err
	}
	return &MergeResult{Conflicts: m.Conflicts, Artifacts: m.Artifacts}, nil
}

func (w *Workspace) captureRecord(ctx context.Context, c Capture) (ledger.Commit, error) {
	if c.Record == "" {
		return ledger.Commit{}, nil
	}
	id, err := ledger.ParseID(c.Record)
	if err != nil {
		return ledger.Commit{}, err
	}
	return w.Chest.Commit(ctx, id)
}

// PublishCaptured records what was captured as a commit on the environment's record, which
// moves to it. It is refused when the record has moved since.
func (w *Workspace) PublishCaptured(ctx context.Context, c Capture, message, item string, merge chest.Draft) (chest.Concluded, error) {
	var none chest.Concluded
	on, err := w.captureRecord(ctx, c)
	if err != nil {
		return none, err
	}
	if err := w.recordStands(ctx, c); err != nil {
		return none, err
	}
	tree, err := disk.FromHex(c.Tree)
	if err != nil {
		return none, err
	}
	line, fresh, err := w.Chest.Line(ctx, c.Environment, on)
	if err != nil {
		return none, err
	}
	x := w.concluding(c)
	x.Merge = merge
	x.Drafts = []chest.Draft{{Branch: line.Name, Tip: on.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(),
		Message: message, Item: item}}
	if fresh {
		line.Author, line.Time = w.Person, w.host.Now()
		x.NewBranch = line
	}
	return w.Chest.Conclude(ctx, x)
}

// fromThere is the message of the merge that brings what was captured into a branch.
func fromThere(environment, message string) string { return "From " + environment + ": " + message }

// concluding is what every record of a capture has in common.
func (w *Workspace) concluding(c Capture) chest.Conclusion {
	now := w.host.Now()
	return chest.Conclusion{
		Expect:     &c.Number,
		Deployment: ledger.Deployment{Environment: c.Environment, Author: w.Person, Workspace: w.Name, Time: now, Source: FoundThere},
		Account:    ledger.Account{Action: FoundThere, Began: now, Gates: "[]"}, Proofs: c.Rules,
	}
}

// FoundThere is the word for the record of what an environment was found to hold.
const FoundThere = "found"

// recordStands refuses when an environment's record has moved since it was captured.
func (w *Workspace) recordStands(ctx context.Context, c Capture) error {
	r, known, err := w.Chest.Record(ctx, c.Environment)
	if err != nil || known && r.Number == c.Number || !known && c.Number == 0 {
		return err
	}
	return fault.New(fault.Refused, "Capture it again: oaken capture "+fault.Word(c.Environment)+".",
		"Somebody has deployed to %s, or captured it, since this was read.", c.Environment)
}

// underCapture refuses to record a part of what was captured: the rest would look as if it
// had been taken back.
func (w *Workspace) underCapture(paths []string) error {
	list, err := w.Captures()
	if err != nil || len(paths) == 0 {
		return err
	}
	for _, c := range list {
		for _, p := range paths {
			for _, folder := range c.Folders {
				if p != folder && state.Under([]string{folder}, p) {
					return fault.New(fault.Refused,
						"Commit "+folder+" whole. What is not to go in takes oaken discard PATH first: the environment keeps it, as work "+
							"that the branch has not.",
						"What %s holds was captured into %s and belongs together.", c.Environment, folder)
				}
			}
		}
	}
	return nil
}

// captured moves the records of environments to a commit that holds what was captured of
// them. Where the commit holds something else there, because others have published or
// somebody chose so, what was captured gets a commit of its own, and the branch takes it in
// as it is.
func (w *Workspace) captured(ctx context.Context, made *Committed) error {
	list, err := w.Captures()
	if err != nil || len(list) == 0 || made.Held > 0 || len(made.Changes) == 0 {
		return err
	}
	at := made.Commit
	for _, c := range list {
		if w.recordStands(ctx, c) != nil { // somebody else has said newer things of it
			continue
		}
		tree, err := disk.FromHex(c.Tree)
		if err != nil {
			return err
		}
		same, err := w.SameIn(c.Folders, tree, at.Tree)
		if err == nil && same {
			x := w.concluding(c)
			x.Deployment.Commit, x.Account.Source = at.ID, at.ID
			_, err = w.Chest.Conclude(ctx, x)
		} else if err == nil {
			err = w.capturedBeside(ctx, c, at, made)
		}
		if err != nil {
			return err
		}
	}
	return w.setCaptures(nil)
}

// capturedBeside records what was captured beside a commit that holds something else.
func (w *Workspace) capturedBeside(ctx context.Context, c Capture, at ledger.Commit, made *Committed) error {
	if !slices.ContainsFunc(made.Changes, func(ch Change) bool { return state.Under(c.Folders, ch.Path) }) {
		return nil // all of it was discarded
	}
	on, err := w.captureRecord(ctx, c)
	if err != nil {
		return err
	}
	tree, err := disk.FromHex(c.Tree)
	if err != nil {
		return err
	}
	merge := chest.Draft{}
	bases, err := w.Chest.MergeBases(ctx, at, on)
	if err != nil {
		return err
	}
	if on.Depth == 0 || len(bases) == 1 && bases[0].ID == on.ID {
		base := w.TreeState(on.Tree, "base")
		b, err := w.BlendAgainst(ctx, base, at.Tree, w.TreeState(tree, c.Environment), nil)
		if err != nil {
			return err
		}
		merge = chest.Draft{Branch: at.Branch, Tip: at.ID, Tree: at.Tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(),
			Message: fromThere(c.Environment, at.Message),
			Settled: len(b.Merged.Conflicts) > 0 || b.Tree != at.Tree}
	}
	done, err := w.PublishCaptured(ctx, c, at.Message, at.Item, merge)
	if err != nil {
		return err
	}
	made.Beside = append(made.Beside, done.Commit)
	if done.Merge.Depth > 0 {
		return w.standOn(ctx, done.Merge)
	}
	return nil
}

// MayChange refuses paths that somebody else has locked, or that need a lock.
func (w *Workspace) MayChange(ctx context.Context, files map[string][]byte) error {
	locks, err := w.locks(ctx)
	if err != nil {
		return err
	}
	var list []Change
	for p := range files {
		list = append(list, Change{Path: p, State: Edited})
	}
	_, err = w.locking.Check(ctx, locks, list)
	return err
}
