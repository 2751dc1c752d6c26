package workspace

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// Into is a merge that goes into a branch without the workspace's files.
type Into struct {
	Branch string
	// Onto is the tip of the branch, Theirs the commit whose work goes in.
	Onto, Theirs  ledger.Commit
	Message, Item string
	// Check, when set, looks at what the merge comes to, before it is published.
	Check func(state.State) error
}

// ForeseeInto tells what a merge of one commit into another would come to.
func (w *Workspace) ForeseeInto(ctx context.Context, onto, theirs ledger.Commit) (*state.Merged, error) {
	base, bases, err := w.common(ctx, onto, theirs)
	if err != nil {
		return nil, err
	}
	if len(bases) == 1 && bases[0].ID == onto.ID { // nothing but theirs is new
		return &state.Merged{}, nil
	}
	return w.Reader().Merge(ctx, base, w.CommitState(onto, Label(onto)), w.CommitState(theirs, Label(theirs)), nil)
}

// MergeInto merges a commit into a branch and publishes the outcome; conflicts are
// refused. A workspace that stands on the branch gets the outcome, where its edits let it.
func (w *Workspace) MergeInto(ctx context.Context, o Into) (ledger.Commit, error) {
	base, bases, err := w.common(ctx, o.Onto, o.Theirs)
	if err != nil {
		return ledger.Commit{}, err
	}
	if len(bases) == 1 && bases[0].ID == o.Theirs.ID {
		return ledger.Commit{}, fault.New(fault.Usage, "There is nothing to merge.", "Everything of %s is in %s already.", Label(o.Theirs), o.Branch)
	}
	m, err := w.Reader().Merge(ctx, base, w.CommitState(o.Onto, Label(o.Onto)), w.CommitState(o.Theirs, Label(o.Theirs)), nil)
	if err != nil {
		return ledger.Commit{}, err
	}
	if len(m.Conflicts) > 0 {
		return ledger.Commit{}, fault.New(fault.Conflict, "Merge "+o.Branch+" into that branch, and settle it there.", "It does not merge, at %s%s.", m.Conflicts[0].Address, more(len(m.Conflicts)-1))
	}
	release, err := w.Chest.Hold(ctx, false)
	if err != nil {
		return ledger.Commit{}, err
	}
	defer release()
	tree, err := w.amendNow(o.Onto.Tree, incomingOf(m.Edits))
	if err != nil {
		return ledger.Commit{}, err
	}
	if o.Check != nil {
		if err := o.Check(state.Commit{Chest: w.Chest, Tree: tree, Name: "the merge"}); err != nil {
			return ledger.Commit{}, err
		}
	}
	c, err := w.Chest.Publish(ctx, chest.Draft{Branch: o.Branch, Tip: o.Onto.ID, Merged: o.Theirs.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: o.Message, Item: o.Item})
	if err != nil {
		return c, err
	}
	_ = w.Chest.Gather(ctx)
	if w.Branch == o.Branch && w.Base.ID == o.Onto.ID && len(w.held) == 0 {
		if _, err := w.Sync(ctx); err != nil && fault.CodeOf(err) != fault.Refused && fault.CodeOf(err) != fault.Conflict {
			return c, err // edits in the way leave the workspace where it is
		}
	}
	return c, nil
}

// LayOut writes all files of a state into a folder.
func (w *Workspace) LayOut(ctx context.Context, s state.State, dir string) error {
	files, err := s.Files(ctx)
	if err == nil {
		_, err = w.restoreTo(ctx, files, s, dir)
	}
	return err
}

// ReadManifest reads a text of oaken.toml.
func (w *Workspace) ReadManifest(text []byte) (*manifest.Manifest, error) {
	return recipe.Manifest(text, w.host.Kinds)
}
