package workspace

import (
	"context"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
)

// MergeInto merges a commit into a branch and publishes the outcome; conflicts are refused. A workspace that stands
// on the branch gets the outcome, where its edits let it.
func (w *Workspace) MergeInto(ctx context.Context, o project.Into) (*project.Arrived, error) {
	a, err := w.Project.MergeInto(ctx, o)
	if err != nil {
		return nil, err
	}
	return a, w.Follow(ctx, o.Branch, o.Onto)
}

// Follow brings the newest state of a branch into a workspace that stood at the tip that
// the branch had before; edits in the way leave the workspace where it is.
func (w *Workspace) Follow(ctx context.Context, branch string, before ledger.Commit) error {
	if w.Branch != branch || w.Base.ID != before.ID || len(w.unsent.Commits) > 0 || w.Offline {
		return nil
	}
	if _, err := w.Sync(ctx); err != nil && fault.CodeOf(err) != fault.Refused && fault.CodeOf(err) != fault.Conflict {
		return err
	}
	return nil
}
