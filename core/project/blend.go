package project

import (
	"context"

	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// ForeseeInto tells what a merge of one commit into another would come to.
func (p *Project) ForeseeInto(ctx context.Context, onto, theirs ledger.Commit) (*state.Merged, error) {
	g, err := p.Ground(ctx, onto, theirs)
	if err != nil {
		return nil, err
	}
	if g.All(onto) { // nothing but theirs is new
		return &state.Merged{}, nil
	}
	m, err := p.Reader().Merge(ctx, g.State, p.CommitState(onto, Label(onto)), p.CommitState(theirs, Label(theirs)), nil)
	if err == nil {
		m.Conflicts = append(g.Conflicts, m.Conflicts...)
	}
	return m, err
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
func (p *Project) Blend(ctx context.Context, onto, theirs ledger.Commit, settle element.Settle) (*Blended, error) {
	g, err := p.Ground(ctx, onto, theirs)
	if err != nil {
		return nil, err
	}
	if g.All(theirs) {
		return &Blended{Tree: onto.Tree}, nil
	}
	if g.All(onto) { // nothing but theirs is new
		return &Blended{Tree: theirs.Tree, Merged: &state.Merged{}}, nil
	}
	return p.blendOn(ctx, g, onto.Tree, p.CommitState(theirs, Label(theirs)), settle)
}

// BlendOf merges into a commit a tree that stands on another one, and has no commit yet.
func (p *Project) BlendOf(ctx context.Context, onto, on ledger.Commit, tree content.Digest) (*Blended, error) {
	g, err := p.Ground(ctx, onto, on)
	if err != nil {
		return nil, err
	}
	if g.All(onto) { // nothing but theirs is new
		return &Blended{Tree: tree, Merged: &state.Merged{}}, nil
	}
	return p.blendOn(ctx, g, onto.Tree, p.TreeState(tree, "theirs"), nil)
}

// BlendOne does to a tree what one commit did to the commit before it; settle decides
// conflicts.
func (p *Project) BlendOne(ctx context.Context, onto content.Digest, c ledger.Commit, settle element.Settle) (*Blended, error) {
	before, err := p.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	return p.BlendAgainst(ctx, before, onto, p.CommitState(c, Label(c)), settle)
}

// BlendBack takes out of a tree what one commit did.
func (p *Project) BlendBack(ctx context.Context, onto content.Digest, c ledger.Commit) (*Blended, error) {
	before, err := p.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	return p.BlendAgainst(ctx, p.CommitState(c, Label(c)), onto, before, nil)
}

// BlendFrom does to a tree what leads from one commit to another.
func (p *Project) BlendFrom(ctx context.Context, onto content.Digest, from, to ledger.Commit) (*Blended, error) {
	return p.BlendAgainst(ctx, p.CommitState(from, Label(from)), onto, p.CommitState(to, Label(to)), nil)
}

// blendOn is blend on a ground: what of it does not fit is in conflict, which no choice
// settles.
func (p *Project) blendOn(ctx context.Context, g Ground, onto content.Digest, theirs state.State, settle element.Settle) (*Blended, error) {
	b, err := p.BlendAgainst(ctx, g.State, onto, theirs, settle)
	if err == nil {
		for i := range g.Conflicts {
			g.Conflicts[i].Allows = nil
		}
		b.Merged.Conflicts = append(g.Conflicts, b.Merged.Conflicts...)
	}
	return b, err
}

func (p *Project) BlendAgainst(ctx context.Context, base state.State, onto content.Digest, theirs state.State,
	settle element.Settle) (*Blended, error) {
	m, err := p.Reader().Merge(ctx, base, p.TreeState(onto, "mine"), theirs, settle)
	if err != nil {
		return nil, err
	}
	tree, err := p.AmendNow(ctx, onto, IncomingOf(m.Edits))
	return &Blended{Tree: tree, Merged: m}, err
}
