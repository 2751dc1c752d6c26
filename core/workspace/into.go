package workspace

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
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
	g, err := w.common(ctx, onto, theirs)
	if err != nil {
		return nil, err
	}
	if g.all(onto) { // nothing but theirs is new
		return &state.Merged{}, nil
	}
	m, err := w.Reader().Merge(ctx, g.State, w.CommitState(onto, Label(onto)), w.CommitState(theirs, Label(theirs)), nil)
	if err == nil {
		m.Conflicts = append(g.conflicts, m.Conflicts...)
	}
	return m, err
}

// Arrived is a merge that was published: its commit, and the artifacts that both sides had
// changed.
type Arrived struct {
	Commit   ledger.Commit
	Combined []state.Combined
}

// MergeInto merges a commit into a branch and publishes the outcome; conflicts are
// refused. A workspace that stands on the branch gets the outcome, where its edits let it.
func (w *Workspace) MergeInto(ctx context.Context, o Into) (a *Arrived, err error) {
	err = w.Chest.Storing(ctx, func() error { a, err = w.mergeInto(ctx, o); return err })
	return a, err
}

func (w *Workspace) mergeInto(ctx context.Context, o Into) (*Arrived, error) {
	m, err := w.Blend(ctx, o.Onto, o.Theirs, nil)
	if err != nil {
		return nil, err
	}
	if m.Merged == nil {
		return nil, fault.New(fault.Usage, "There is nothing to merge.", "Everything of %s is in %s already.", Label(o.Theirs), o.Branch)
	}
	if len(m.Merged.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict, "Merge "+o.Branch+" into that branch, and settle it there.", "It does not merge, at %s%s.", m.Merged.Conflicts[0].Address, more(len(m.Merged.Conflicts)-1))
	}
	tree := m.Tree
	if o.Check != nil {
		if err := o.Check(state.Commit{Chest: w.Chest, Tree: tree, Name: "the merge"}); err != nil {
			return nil, err
		}
	}
	c, err := w.Chest.Publish(ctx, chest.Draft{Branch: o.Branch, Tip: o.Onto.ID, Merged: o.Theirs.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: o.Message, Item: o.Item})
	if err != nil {
		return nil, err
	}
	_ = w.Chest.Gather(ctx)
	return &Arrived{c, m.Merged.Artifacts}, w.Follow(ctx, o.Branch, o.Onto)
}

// Follow brings the newest state of a branch into a workspace that stood at the tip that
// the branch had before; edits in the way leave the workspace where it is.
func (w *Workspace) Follow(ctx context.Context, branch string, before ledger.Commit) error {
	if w.Branch != branch || w.Base.ID != before.ID || len(w.held) > 0 || w.Offline {
		return nil
	}
	if _, err := w.Sync(ctx); err != nil && fault.CodeOf(err) != fault.Refused && fault.CodeOf(err) != fault.Conflict {
		return err
	}
	return nil
}

// Blended is what a merge comes to before it is a commit.
type Blended struct {
	// Tree is in the chest, but only as long as a lease is held that keeps it from being
	// tidied (Chest.Hold), or a commit names it. Where a conflict is open, what was there
	// before stands in it.
	Tree content.Digest
	// Merged tells what was combined; nil when there was nothing to bring in.
	Merged *state.Merged
}

// Blend merges one commit into another; settle decides conflicts. Nothing in the workspace
// changes.
func (w *Workspace) Blend(ctx context.Context, onto, theirs ledger.Commit, settle element.Settle) (*Blended, error) {
	g, err := w.common(ctx, onto, theirs)
	if err != nil {
		return nil, err
	}
	if g.all(theirs) {
		return &Blended{Tree: onto.Tree}, nil
	}
	if g.all(onto) { // nothing but theirs is new
		return &Blended{Tree: theirs.Tree, Merged: &state.Merged{}}, nil
	}
	return w.blendOn(ctx, g, onto.Tree, w.CommitState(theirs, Label(theirs)), settle)
}

// BlendOf merges into a commit a tree that stands on another one, and has no commit yet.
func (w *Workspace) BlendOf(ctx context.Context, onto, on ledger.Commit, tree content.Digest) (*Blended, error) {
	g, err := w.common(ctx, onto, on)
	if err != nil {
		return nil, err
	}
	if g.all(onto) { // nothing but theirs is new
		return &Blended{Tree: tree, Merged: &state.Merged{}}, nil
	}
	return w.blendOn(ctx, g, onto.Tree, w.TreeState(tree, "theirs"), nil)
}

// BlendOne does to a tree what one commit did to the commit before it; settle decides
// conflicts.
func (w *Workspace) BlendOne(ctx context.Context, onto content.Digest, c ledger.Commit, settle element.Settle) (*Blended, error) {
	before, err := w.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	return w.blend(ctx, before, onto, w.CommitState(c, Label(c)), settle)
}

// BlendBack takes out of a tree what one commit did.
func (w *Workspace) BlendBack(ctx context.Context, onto content.Digest, c ledger.Commit) (*Blended, error) {
	before, err := w.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	return w.blend(ctx, w.CommitState(c, Label(c)), onto, before, nil)
}

// BlendFrom does to a tree what leads from one commit to another.
func (w *Workspace) BlendFrom(ctx context.Context, onto content.Digest, from, to ledger.Commit) (*Blended, error) {
	return w.blend(ctx, w.CommitState(from, Label(from)), onto, w.CommitState(to, Label(to)), nil)
}

// blendOn is blend on a ground: what of it does not fit is in conflict, which no choice
// settles.
func (w *Workspace) blendOn(ctx context.Context, g ground, onto content.Digest, theirs state.State, settle element.Settle) (*Blended, error) {
	b, err := w.blend(ctx, g.State, onto, theirs, settle)
	if err == nil {
		for i := range g.conflicts {
			g.conflicts[i].Allows = nil
		}
		b.Merged.Conflicts = append(g.conflicts, b.Merged.Conflicts...)
	}
	return b, err
}

func (w *Workspace) blend(ctx context.Context, base state.State, onto content.Digest, theirs state.State, settle element.Settle) (*Blended, error) {
	m, err := w.Reader().Merge(ctx, base, w.TreeState(onto, "mine"), theirs, settle)
	if err != nil {
		return nil, err
	}
	tree, err := w.amendNow(ctx, onto, incomingOf(m.Edits))
	return &Blended{Tree: tree, Merged: m}, err
}

// TreeState is the state of a tree that need not be a commit's.
func (w *Workspace) TreeState(tree content.Digest, label string) state.State {
	return state.Commit{Chest: w.Chest, Tree: tree, Name: label}
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
