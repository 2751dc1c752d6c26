package project

import (
	"context"
	"maps"
	"slices"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Ground is what two commits have in common, against which they are merged.
type Ground struct {
	state.State
	Bases []ledger.Commit
	// Apart are the commits that took something back which just one of the two counts as
	// taken back: what they did is done to the state. Where it does not fit, Conflicts say so.
	Apart     []ledger.Commit
	Conflicts []element.Conflict
}

// All says that the ground is a commit itself: the other has nothing but what is new.
func (g Ground) All(c ledger.Commit) bool {
	return len(g.Bases) == 1 && g.Bases[0].ID == c.ID && len(g.Apart) == 0
}

// Ground gives the ground of two commits. Branches that were merged crosswise have several
// nearest common commits; these are merged with each other first, and what they can't agree
// on is as it was before, so that only what both sides did to it since stands against each
// other. What one of the two has taken back is not in it: so it never travels.
func (p *Project) Ground(ctx context.Context, a, b ledger.Commit) (g Ground, err error) {
	g.State = p.CommitState(ledger.Commit{}, "base")
	if g.Bases, err = p.Chest.MergeBases(ctx, a, b); err != nil || len(g.Bases) == 0 {
		return g, err
	}
	if g.State, err = p.Joined(ctx, g.Bases); err != nil {
		return g, err
	}
	if g.Apart, err = arrival.TakenApart(ctx, p.Chest, a, b, g.Bases); err != nil {
		return g, err
	}
	g.State, g.Conflicts, err = p.without(ctx, g.State, g.Apart)
	return g, err
}

// without does to a state what some commits did, each to the one before it.
func (p *Project) without(ctx context.Context, s state.State, commits []ledger.Commit) (state.State, []element.Conflict, error) {
	var conflicts []element.Conflict
	for _, c := range commits {
		before, err := p.Before(ctx, c)
		if err != nil {
			return nil, nil, err
		}
		theirs := p.CommitState(c, "base")
		m, err := p.Reader().Merge(ctx, before, s, theirs, nil)
		if err != nil {
			return nil, nil, err
		}
		conflicts = append(conflicts, m.Conflicts...)
		s = state.Patched(s, theirs, m)
	}
	return s, conflicts, nil
}

// WithoutTaken is without, for commits by their ids.
func (p *Project) WithoutTaken(ctx context.Context, s state.State, ids []string) (state.State, error) {
	commits, err := p.CommitsBy(ctx, ids)
	if err != nil {
		return nil, err
	}
	s, _, err = p.without(ctx, s, commits)
	return s, err
}

// CommitsBy gives commits by their written ids.
func (p *Project) CommitsBy(ctx context.Context, ids []string) ([]ledger.Commit, error) {
	var out []ledger.Commit
	for _, text := range ids {
		id, err := ledger.ParseID(text)
		if err != nil {
			return nil, err
		}
		c, err := p.Chest.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Before is the state that a commit was made on: of a merge what its two sides come to by
// themselves, so that what it did is what people settled in it, and not what either brought.
func (p *Project) Before(ctx context.Context, c ledger.Commit) (state.State, error) {
	if len(c.Parents) == 0 {
		return p.CommitState(ledger.Commit{}, "base"), nil
	}
	first, err := p.Chest.Commit(ctx, c.Parents[0])
	if err != nil || len(c.Parents) == 1 {
		return p.CommitState(first, "base"), err
	}
	brought, err := p.Chest.Commit(ctx, c.Parents[1])
	if err != nil {
		return nil, err
	}
	mine, theirs := p.CommitState(first, "base"), p.CommitState(brought, "base")
	g, err := p.Ground(ctx, first, brought)
	switch {
	case err != nil:
		return nil, err
	case g.All(brought):
		return mine, nil
	case g.All(first): // nothing but what it brings is new
		return theirs, nil
	}
	m, err := p.Reader().Merge(ctx, g.State, mine, theirs, nil)
	if err != nil {
		return nil, err
	}
	return state.Patched(mine, theirs, m), nil
}

// Did lists the files that a commit changed, in no order; a merge those that people settled.
func (p *Project) Did(ctx context.Context, c ledger.Commit) ([]chest.Pair, error) {
	before, err := p.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	if at, ok := before.(state.Commit); ok {
		pairs, err := p.Chest.Diff(at.Tree, c.Tree)
		return pairs, chest.Explain(err)
	}
	was, err := before.Files(ctx)
	if err != nil {
		return nil, err
	}
	is, err := p.CommitState(c, "base").Files(ctx)
	if err != nil {
		return nil, err
	}
	both := make(map[string]chest.Pair, len(is))
	for _, f := range was {
		both[f.Path] = chest.Pair{Path: f.Path, Was: f}
	}
	for _, f := range is {
		x := both[f.Path]
		both[f.Path] = chest.Pair{Path: f.Path, Was: x.Was, Is: f}
	}
	maps.DeleteFunc(both, func(_ string, x chest.Pair) bool { return x.Was.Same(x.Is) })
	return slices.Collect(maps.Values(both)), nil
}

// Common gives the state that two commits have in common.
func (p *Project) Common(ctx context.Context, a, b ledger.Commit) (state.State, error) {
	g, err := p.Ground(ctx, a, b)
	return g.State, err
}

// Joined merges commits into one state that stands for all of them.
func (p *Project) Joined(ctx context.Context, commits []ledger.Commit) (state.State, error) {
	out := p.CommitState(commits[0], "base")
	for _, c := range commits[1:] {
		before, err := p.Ground(ctx, commits[0], c)
		if err != nil {
			return nil, err
		}
		theirs := p.CommitState(c, "base")
		m, err := p.Reader().Merge(ctx, before.State, out, theirs, func(element.Conflict) (element.Choice, bool) {
			return element.Choice{Keep: element.KeepBase}, true
		})
		if err != nil {
			return nil, err
		}
		out = state.Patched(out, theirs, m)
	}
	return out, nil
}
