package workspace

import (
	"context"

	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// common gives the state that two commits have in common, against which they are merged.
// Branches that were merged crosswise have several nearest common commits; these are
// merged with each other first, and what they can't agree on is as it was before, so that
// only what both sides did to it since stands against each other.
func (w *Workspace) common(ctx context.Context, a, b ledger.Commit) (state.State, []ledger.Commit, error) {
	bases, err := w.Chest.MergeBases(ctx, a, b)
	if err != nil || len(bases) == 0 {
		return w.CommitState(ledger.Commit{}, "base"), nil, err
	}
	out, err := w.joined(ctx, bases)
	return out, bases, err
}

// joined merges commits into one state that stands for all of them.
func (w *Workspace) joined(ctx context.Context, commits []ledger.Commit) (state.State, error) {
	out := w.CommitState(commits[0], "base")
	for _, c := range commits[1:] {
		before, _, err := w.common(ctx, commits[0], c)
		if err != nil {
			return nil, err
		}
		theirs := w.CommitState(c, "base")
		m, err := w.Reader().Merge(ctx, before, out, theirs, func(element.Conflict) (element.Choice, bool) {
			return element.Choice{Keep: element.KeepBase}, true
		})
		if err != nil {
			return nil, err
		}
		out = state.Patched(out, theirs, m)
	}
	return out, nil
}
