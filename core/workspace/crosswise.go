package workspace

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

// ground is what two commits have in common, against which they are merged.
type ground struct {
	state.State
	bases []ledger.Commit
	// apart are the commits that took something back which just one of the two counts as
	// taken back: what they did is done to the state. Where it does not fit, conflicts say so.
	apart     []ledger.Commit
	conflicts []element.Conflict
}

// all says that the ground is a commit itself: the other has nothing but what is new.
func (g ground) all(c ledger.Commit) bool {
	return len(g.bases) == 1 && g.bases[0].ID == c.ID && len(g.apart) == 0
}

// common gives the ground of two commits. Branches that were merged crosswise have several
// nearest common commits; these are merged with each other first, and what they can't agree
// on is as it was before, so that only what both sides did to it since stands against each
// other. What one of the two has taken back is not in it: so it never travels.
func (w *Workspace) common(ctx context.Context, a, b ledger.Commit) (g ground, err error) {
	g.State = w.CommitState(ledger.Commit{}, "base")
	if g.bases, err = w.Chest.MergeBases(ctx, a, b); err != nil || len(g.bases) == 0 {
		return g, err
	}
	if g.State, err = w.joined(ctx, g.bases); err != nil {
		return g, err
	}
	if g.apart, err = arrival.TakenApart(ctx, w.Chest, a, b, g.bases); err != nil {
		return g, err
	}
	g.State, g.conflicts, err = w.without(ctx, g.State, g.apart)
	return g, err
}

// without does to a state what some commits did, each to the one before it.
func (w *Workspace) without(ctx context.Context, s state.State, commits []ledger.Commit) (state.State, []element.Conflict, error) {
	var conflicts []element.Conflict
	for _, c := range commits {
		before, err := w.Before(ctx, c)
		if err != nil {
			return nil, nil, err
		}
		theirs := w.CommitState(c, "base")
		m, err := w.Reader().Merge(ctx, before, s, theirs, nil)
		if err != nil {
			return nil, nil, err
		}
		conflicts = append(conflicts, m.Conflicts...)
		s = state.Patched(s, theirs, m)
	}
	return s, conflicts, nil
}

// withoutTaken is without, for commits by their ids.
func (w *Workspace) withoutTaken(ctx context.Context, s state.State, ids []string) (state.State, error) {
	commits, err := w.commitsBy(ctx, ids)
	if err != nil {
		return nil, err
	}
	s, _, err = w.without(ctx, s, commits)
	return s, err
}

// commitsBy gives commits by their written ids.
func (w *Workspace) commitsBy(ctx context.Context, ids []string) ([]ledger.Commit, error) {
	var out []ledger.Commit
	for _, text := range ids {
		id, err := ledger.ParseID(text)
		if err != nil {
			return nil, err
		}
		c, err := w.Chest.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Before is the state that a commit was made on: of a merge what its two sides come to by
// themselves, so that what it did is what people settled in it, and not what either brought.
func (w *Workspace) Before(ctx context.Context, c ledger.Commit) (state.State, error) {
	if len(c.Parents) == 0 {
		return w.CommitState(ledger.Commit{}, "base"), nil
	}
	p, err := w.Chest.Commit(ctx, c.Parents[0])
	if err != nil || len(c.Parents) == 1 {
		return w.CommitState(p, "base"), err
	}
	brought, err := w.Chest.Commit(ctx, c.Parents[1])
	if err != nil {
		return nil, err
	}
	mine, theirs := w.CommitState(p, "base"), w.CommitState(brought, "base")
	g, err := w.common(ctx, p, brought)
	switch {
	case err != nil:
		return nil, err
	case g.all(brought):
		return mine, nil
	case g.all(p): // nothing but what it brings is new
		return theirs, nil
	}
	m, err := w.Reader().Merge(ctx, g.State, mine, theirs, nil)
	if err != nil {
		return nil, err
	}
	return state.Patched(mine, theirs, m), nil
}

// Did lists the files that a commit changed, in no order; a merge those that people settled.
func (w *Workspace) Did(ctx context.Context, c ledger.Commit) ([]chest.Pair, error) {
	before, err := w.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	if at, ok := before.(state.Commit); ok {
		pairs, err := w.Chest.Diff(at.Tree, c.Tree)
		return pairs, chest.Explain(err)
	}
	was, err := before.Files(ctx)
	if err != nil {
		return nil, err
	}
	is, err := w.CommitState(c, "base").Files(ctx)
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
func (w *Workspace) Common(ctx context.Context, a, b ledger.Commit) (state.State, error) {
	g, err := w.common(ctx, a, b)
	return g.State, err
}

// joined merges commits into one state that stands for all of them.
func (w *Workspace) joined(ctx context.Context, commits []ledger.Commit) (state.State, error) {
	out := w.CommitState(commits[0], "base")
	for _, c := range commits[1:] {
		before, err := w.common(ctx, commits[0], c)
		if err != nil {
			return nil, err
		}
		theirs := w.CommitState(c, "base")
		m, err := w.Reader().Merge(ctx, before.State, out, theirs, func(element.Conflict) (element.Choice, bool) {
			return element.Choice{Keep: element.KeepBase}, true
		})
		if err != nil {
			return nil, err
		}
		out = state.Patched(out, theirs, m)
	}
	return out, nil
}
