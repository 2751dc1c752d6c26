package locking

import (
	"context"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Guard decides which files are read-only here: those whose policy requires a lock that
// this workspace does not hold.
//
// Where no rule speaks of an artifact, a kind that can't be merged requires its lock as
// soon as the project is shared: another workspace is known, or the chest lies outside.
type Guard struct {
	of     *Rules
	rules  *manifest.Manifest
	locks  *chest.LockSet
	inside map[string]bool // artifacts in which this workspace holds the lock of something
	shared bool
}

// Guard gives what decides, beside some locks.
func (r *Rules) Guard(ctx context.Context, locks []ledger.Lock) Guard {
	g := Guard{r, r.Ruling(ctx), chest.NewLockSet(locks), map[string]bool{}, r.Shared(ctx)}
	for _, l := range locks {
		if path, _, object := strings.Cut(l.Address, "::"); object && r.Holds(l) {
			g.inside[path] = true
		}
	}
	return g
}

// Ruling gives the manifest whose rules of locks count: that of the first branch, unless this
// person may change its rules, or it can't be read. Then the workspace's own does.
func (r *Rules) Ruling(ctx context.Context) *manifest.Manifest {
	if r.In.Away() {
		return r.Manifest
	}

	first, err := r.Chest.Branch(ctx, chest.FirstBranch)
	if err != nil {
		return r.Manifest
	}
	rules, err := r.FirstManifest(ctx)
	if err != nil || rules == nil || rules.Team.MayChangeRules(r.Person, first.Author) {
		return r.Manifest
	}
	return rules
}

// Idle says that no policy can ask for anything.
func (g Guard) Idle() bool { return len(g.rules.Locks) == 0 && !g.shared }

func (g Guard) policy(p string, head func() []byte) manifest.Policy {
	if g.Idle() {
		return manifest.Off
	}
	r := g.of.Reader()
	var k kind.Kind
	if a, ok := g.of.Manifest.Declared(r.Unit(p)); ok {
		if folder, known := r.FolderKind(a.Kind); known {
			k = folder
		}
	}
	if k == nil {
		k = r.KindOf(p, head())
	}
	if policy, ok := g.rules.LockPolicy(p, k.Name()); ok {
		return policy
	}
	if _, merges := k.(kind.Writer); !merges && g.shared && p != manifest.Name {
		return manifest.Required
	}
	return manifest.Off
}

// Required reports whether a file must be locked before it is changed.
func (g Guard) Required(p string, head func() []byte) bool {
	return g.policy(p, head) == manifest.Required
}

// Advised reports whether a file had better be.
func (g Guard) Advised(p string, head func() []byte) bool {
	return g.policy(p, head) == manifest.Advised
}

// ReadOnly reports whether a file is to be read-only here.
func (g Guard) ReadOnly(p string, head func() []byte) bool {
	return !g.Idle() && !g.of.Covered(g.locks, p) && !g.inside[g.of.Reader().Unit(p)] && !g.of.IsWaived(p) && g.Required(p, head)
}
