package project

import (
	"context"
	"strconv"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Into is a merge that goes into a branch without the workspace's files.
type Into struct {
	Branch string
	// Onto is the tip of the branch, Theirs the commit whose work goes in.
	Onto, Theirs  ledger.Commit
	Message, Item string
	// By is what it was decided by, beside the branch.
	By chest.Ruling
	// Check, when set, looks at what the merge comes to, before it is published.
	Check func(state.State) error
}

// Arrived is a merge that was published: its commit, and the artifacts that both sides had
// changed.
type Arrived struct {
	Commit   ledger.Commit
	Combined []state.Combined
}

// MergeInto merges a commit into a branch and publishes the outcome; conflicts are
// refused.
func (p *Project) MergeInto(ctx context.Context, o Into) (a *Arrived, err error) {
	err = p.Chest.Storing(ctx, func() error { a, err = p.mergeInto(ctx, o); return err })
	return a, err
}

func (p *Project) mergeInto(ctx context.Context, o Into) (*Arrived, error) {
	m, err := p.Blend(ctx, o.Onto, o.Theirs, nil)
	if err != nil {
		return nil, err
	}
	if m.Merged == nil {
		return nil, fault.New(fault.Usage, "There is nothing to merge.", "Everything of %s is in %s already.", Label(o.Theirs), o.Branch)
	}
	if len(m.Merged.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict, "Merge "+o.Branch+" into that branch, and settle it there.", "It does not merge, at %s%s.",
			m.Merged.Conflicts[0].Address, more(len(m.Merged.Conflicts)-1))
	}
	tree := m.Tree
	if o.Check != nil {
		if err := o.Check(state.Commit{Chest: p.Chest, Tree: tree, Name: "the merge"}); err != nil {
			return nil, err
		}
	}
	c, err := p.Chest.PublishRuled(ctx, chest.Draft{Branch: o.Branch, Tip: o.Onto.ID, Merged: o.Theirs.ID, Tree: tree, Author: p.Person,
		Workspace: p.Name, Time: p.Now(), Message: o.Message, Item: o.Item}, o.By)
	if err != nil {
		return nil, err
	}
	_ = p.Chest.Gather(ctx)
	return &Arrived{c, m.Merged.Artifacts}, nil
}

// more says that there are others.
func more(n int) string {
	if n == 0 {
		return ""
	}
	return " and " + strconv.Itoa(n) + " more"
}
