package workspace

import (
	"context"

	"oakenchest/core/element"
	"oakenchest/core/state"
	"oakenchest/core/workspace/merging"
)

type (
	// Pending is a merge, revert or capture that is under way.
	Pending = merging.Pending
	// Decision settles one conflict of it.
	Decision = merging.Decision
)

// Pending gives the merge under way, nil for none.
func (w *Workspace) Pending() (*Pending, error) { return w.merging.Pending() }

// Conflicts lists what is open in the merge under way.
func (w *Workspace) Conflicts(ctx context.Context) (*Pending, []element.Conflict, error) {
	return w.merging.Open(ctx)
}

// MergeSides gives the two states of the merge under way.
func (w *Workspace) MergeSides() (mine, theirs state.State, err error) { return w.merging.Sides() }

// Decide settles conflicts one by one, all or none, and gives what is left open.
func (w *Workspace) Decide(ctx context.Context, list []Decision) (left []element.Conflict, err error) {
	return w.merging.Decide(ctx, list)
}

// Resolve settles the conflict at an address, all of an artifact or folder when the address is a path, or all whose
// addresses or paths fit a pattern, and gives what was settled and what is left open. value is used with KeepValue.
func (w *Workspace) Resolve(ctx context.Context, text string, keep element.Keep, value string) (settled,
	left []element.Conflict, err error) {
	return w.merging.Resolve(ctx, text, keep, value)
}
