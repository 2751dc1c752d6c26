package locking

import (
	"context"
	"path/filepath"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/workspace/disk"
)

// Covered reports whether one of this workspace's locks reaches a path.
func (r *Rules) Covered(locks *chest.LockSet, p string) bool {
	return slices.ContainsFunc(locks.Over(p), r.Holds)
}

// Check refuses changes of files that need a lock which is not held here, and says
// who holds it. It gives sentences about changes that had better been locked.
func (r *Rules) Check(ctx context.Context, locks []ledger.Lock, changes []disk.Change) (warnings []string, err error) {
	paths := make([]string, 0, len(changes))
	guard := r.Guard(ctx, locks)
	for _, c := range changes {
		paths = append(paths, c.Path)
		for _, p := range []string{c.Path, c.From} {
			if p == "" || p == c.Path && (c.State == disk.New || c.State == disk.Moved) || r.Covered(guard.locks, p) {
				continue
			}
			for _, l := range guard.locks.Over(p) {
				if !r.Holds(l) {
					return nil, chest.LockInTheWay(l, p,
						"Nothing was recorded. Ask "+l.Holder+", or commit the other paths by naming them.")
				}
			}
			switch {
			case guard.inside[r.Reader().Unit(p)]: // checkInside says
			case r.Manifest.LeftOut(p): // it leaves the records, and stays on the disk
			case guard.Required(p, func() []byte { return Head(r.Disk.Local(p)) }):
				return nil, fault.New(fault.Refused,
					"Nothing was recorded. Take the lock with oaken lock "+filepath.ToSlash(p)+" and commit again.",
					"%s must be locked before it is changed, and nobody holds its lock.", p)
			case guard.Advised(p, func() []byte { return Head(r.Disk.Local(p)) }):
				warnings = append(warnings, p+" went in without its lock, which this project advises; oaken lock takes it.")
			}
		}
	}
	if err := r.checkInside(ctx, locks, paths); err != nil {
		return warnings, err
	}
	return warnings, r.checkObjectLocks(ctx, locks, paths)
}

// Settled leaves out of a commit what is edited without its lock, until the lock is
// had; who names it is refused.
func (r *Rules) Settled(locks []ledger.Lock, chosen []disk.Change, paths []string) (in []disk.Change, out []string, err error) {
	if len(r.In.Waived()) == 0 {
		return chosen, nil, nil
	}
	set := chest.NewLockSet(locks)
	for _, c := range chosen {
		if !r.IsWaived(c.Path) || c.State == disk.New || r.Covered(set, c.Path) {
			in = append(in, c)
			continue
		}
		if slices.Contains(paths, c.Path) {
			return nil, nil, fault.New(fault.Refused,
				"Take the lock with oaken lock "+fault.Word(c.Path)+" as soon as it is free; that brings the two together.",
				"%s is contested: it was edited here without its lock.", c.Path)
		}
		out = append(out, c.Path)
	}
	return in, out, nil
}

// Ending lists this workspace's locks that lie on changed paths or objects. A lock on
// a folder stays.
func (r *Rules) Ending(ctx context.Context, chosen []disk.Change, objects []string) ([]string, error) {
	locks, err := r.Chest.Locks(ctx)
	if err != nil || len(locks) == 0 {
		return nil, err
	}
	changed := make(map[string]bool, len(chosen))
	for _, c := range chosen {
		changed[c.Path], changed[c.From], changed[r.Reader().Unit(c.Path)] = true, true, true
	}
	var out []string
	for _, l := range locks {
		if !r.Holds(l) {
			continue
		}
		if changed[l.Address] || IsObject(l.Address) && slices.ContainsFunc(objects, func(o string) bool { return chest.Reaches(l, o) }) {
			out = append(out, l.Address)
		}
	}
	return out, nil
}

// NotOthers refuses paths that somebody else has locked.
func (r *Rules) NotOthers(ctx context.Context, paths []string, hint string) error {
	locks, err := r.Chest.Locks(ctx)
	if err != nil {
		return err
	}
	for _, p := range paths {
		for _, l := range locks {
			if !r.Holds(l) && chest.Reaches(l, p) {
				return chest.LockInTheWay(l, p, hint)
			}
		}
	}
	return nil
}
