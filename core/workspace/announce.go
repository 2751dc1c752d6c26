package workspace

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/overlap"
	"oakenchest/core/state"
)

// announceRest tells what is still edited when some of all changes are done with.
func (w *Workspace) announceRest(ctx context.Context, all, done []Change) {
	gone := make(map[string]bool, len(done))
	for _, x := range done {
		gone[x.Path] = true
	}
	rest := slices.DeleteFunc(slices.Clone(all), func(x Change) bool { return gone[x.Path] || w.onlySupposed(x) })
	_ = w.Announce(ctx, rest, nil)
}

// onlySupposed reports whether a file was taken for edited because it was written lately, and holds what it held.
func (w *Workspace) onlySupposed(x Change) bool {
	if x.State != Edited || x.Is.Digest != (element.Digest{}) || x.Is.Size != x.Was.Size {
		return false
	}
	is, err := w.disk.FileAt(x.Path)
	return err == nil && is.Same(x.Was)
}

// Announce tells the chest what is edited here. now lists the files of the workspace. That it fails harms nothing else:
// the next command tells it.
func (w *Workspace) Announce(ctx context.Context, changes []Change, now []state.File) error {
	if w.Offline || w.Stranger { // who only looks is nobody here
		return nil
	}
	if err := w.register(ctx); err != nil {
		return err
	}
	return w.teller.Announce(ctx, changes, now)
}

// AnnounceAt tells the chest what is edited of some artifacts.
func (w *Workspace) AnnounceAt(ctx context.Context, addresses []string, changes []Change) error {
	if w.Offline {
		return nil
	}
	return w.teller.AnnounceAt(ctx, addresses, changes)
}

// AnnounceStatus tells the chest what Changes has found, when nobody else is at work in
// the workspace.
func (w *Workspace) AnnounceStatus(ctx context.Context, s *Status) error {
	if w.busy == nil {
		return nil
	}
	return w.Announce(ctx, s.Changes, s.now)
}

// NewerCommits counts the commits of the branch that are not here, and gives the last.
func (w *Workspace) NewerCommits(ctx context.Context) (n int, last ledger.Commit, err error) {
	if w.Offline {
		return 0, last, nil
	}
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || b.Tip == (ledger.ID{}) || b.Tip == w.Base.ID {
		return 0, last, err
	}
	if last, err = w.Chest.Commit(ctx, b.Tip); err != nil {
		return 0, last, err
	}
	n, err = w.newer(ctx, last)
	return n, last, err
}

// Warnings tells who else has changed some artifacts, and whether it would merge.
func (w *Workspace) Warnings(ctx context.Context, paths []string, changes []Change) ([]overlap.Overlap, error) {
	if w.Offline {
		return nil, nil
	}
	return w.teller.Warnings(ctx, paths, changes)
}

// Overlaps lists what several branches and workspaces are changing at once.
func (w *Workspace) Overlaps(ctx context.Context, paths []string, look int) ([]overlap.Overlap, error) {
	if w.Offline {
		return nil, chest.Explain(ledger.ErrAway)
	}
	return w.teller.Overlaps(ctx, paths, look)
}

// standing is what telling others asks of the workspace.
type standing struct{ *Workspace }

// Tree is what changes are counted against.
func (s standing) Tree() content.Digest { return s.tree() }

// Waived reports whether a path is edited here without its lock.
func (s standing) Waived(p string) bool { return s.locking.IsWaived(p) }

// Present is what the workspace tells of itself.
func (s standing) Present() ledger.Workspace { return s.presence() }
