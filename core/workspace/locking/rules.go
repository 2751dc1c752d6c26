// Package locking is what locks mean for the files of a workspace: which need one, which are read-only for it, what
// must not be recorded without, and what ends with a commit. Taking locks and giving them back is the workspace's.
package locking

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Ground is what a workspace says of where it stands.
type Ground interface {
	// BaseState is what changes are counted against, Work what lies there.
	BaseState() state.State
	Work() state.State
	// Away says that the chest is out of reach, Outside that it lies outside of the workspace.
	Away() bool
	Outside() bool
	// Waived lists what is edited here without its lock.
	Waived() []string
}

// Rules are the rules of a project for the locks of a workspace of it.
type Rules struct {
	*project.Project
	Disk *disk.Tree
	In   Ground

	alone    *bool // whether no other workspace is known; nil when not asked yet
	loosened bool  // whether files that need no lock are being made writable
}

// Holds reports whether a lock is this workspace's.
func (r *Rules) Holds(l ledger.Lock) bool { return l.Holder == r.Person && l.Workspace == r.Name }

// IsWaived reports whether a path is edited here without its lock.
func (r *Rules) IsWaived(p string) bool {
	return slices.ContainsFunc(r.In.Waived(), func(q string) bool { return chest.Covers(q, p) })
}

// Shared reports whether others may work in the project.
func (r *Rules) Shared(ctx context.Context) bool {
	if r.In.Outside() {
		return true
	}
	if r.alone == nil {
		crowd, err := r.Chest.Others(ctx, r.Name)
		alone := err != nil || crowd == 0
		r.alone = &alone
	}
	return !*r.alone
}

// WantsLock reports whether the project requires or advises a lock for a file that is
// edited here, and this workspace does not hold it.
func (r *Rules) WantsLock(ctx context.Context, p string) bool {
	locks, err := r.Chest.LocksNear(ctx, []string{p})
	g := r.Guard(ctx, locks)
	if err != nil || r.Covered(g.locks, p) || r.IsWaived(p) {
		return false
	}
	policy := g.policy(p, func() []byte { return Head(r.Disk.Local(p)) })
	return policy == manifest.Required || policy == manifest.Advised
}
