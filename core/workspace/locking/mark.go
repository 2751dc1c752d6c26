package locking

import (
	"context"
	"os"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Mark gives recorded files at some paths that need a lock their mode: read-only, or
// writable.
func (r *Rules) Mark(ctx context.Context, paths []string) error {
	if r.In.Away() || r.Guard(ctx, nil).Idle() && !r.loosened || len(paths) == 0 {
		return nil
	}
	var locks []ledger.Lock
	var err error
	if len(paths) > 100 {
		locks, err = r.Chest.Locks(ctx)
	} else {
		locks, err = r.Chest.LocksNear(ctx, paths)
	}
	if err != nil {
		return err
	}
	g := r.Guard(ctx, locks)
	for _, p := range paths {
		if err := ctx.Err(); err != nil {
			return err
		}
		full := r.Disk.Local(p)
		info, err := os.Lstat(full)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		begins := func() []byte { return Head(full) }
		mode := info.Mode().Perm() | 0o200
		if g.ReadOnly(p, begins) {
			mode = info.Mode().Perm() &^ 0o222
		} else if mode == info.Mode().Perm() || !g.Required(p, begins) && !r.loosened {
			continue
		}
		if mode != info.Mode().Perm() {
			if err := r.Disk.Chmod(p, mode); err != nil {
				return err
			}
		}
	}
	return nil
}

// MarkUnder marks the recorded files that some locks reach.
func (r *Rules) MarkUnder(ctx context.Context, locks []ledger.Lock) error {
	if r.Guard(ctx, nil).Idle() {
		return nil
	}
	var paths []string
	for _, l := range locks {
		switch {
		case l.Pattern || l.Address == ".":
			files, err := r.In.BaseState().Files(ctx)
			if err != nil {
				return err
			}
			for _, f := range files {
				if chest.Reaches(l, f.Path) {
					paths = append(paths, f.Path)
				}
			}
		default:
			address, _, _ := strings.Cut(l.Address, "::")
			base := r.In.BaseState().(state.Commit)
			f, err := base.At(address)
			if err != nil {
				return err
			}
			if f.Mode != chest.Folder {
				paths = append(paths, address)
				continue
			}
			below, err := base.Below(address)
			if err != nil {
				return err
			}
			for _, f := range below {
				paths = append(paths, f.Path)
			}
		}
	}
	return r.Mark(ctx, paths)
}

// MarkAll marks all recorded files: the rules for locks changed, or the first other
// workspace came. Files that need no lock become writable.
func (r *Rules) MarkAll(ctx context.Context) error {
	r.loosened = true
	defer func() { r.loosened = false }()
	files, err := r.In.BaseState().Files(ctx)
	if err != nil {
		return err
	}
	return r.Mark(ctx, state.PathsOf(files))
}

// Head gives the first bytes of a file; none of one that is not there.
func Head(full string) []byte {
	f, err := os.Open(full)
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, kind.HeadSize)
	n, _ := f.Read(buf)
	return buf[:n]
}
