package workspace

import (
	"context"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// Lock takes locks on project paths and addresses of elements for this workspace, all or
// none, and makes files writable. A path must exist here or in the base.
func (w *Workspace) Lock(ctx context.Context, paths []string, reason string) error {
	files, err := w.known(ctx)
	if err != nil {
		return err
	}
	var wanted []ledger.Lock
	for _, p := range paths {
		if !IsObject(p) && !anyUnder(files, p) {
			return fault.New(fault.Usage, "Check the spelling; oaken locks PATTERN and oaken changes show paths as the project has them.", "There is no %s in this project.", p)
		}
		wanted = append(wanted, ledger.Lock{Address: p, Holder: w.Person, Workspace: w.Name, Since: w.host.Now(), Reason: reason})
	}
	if err := w.Chest.Lock(ctx, wanted); err != nil {
		return err
	}
	return w.MarkReadOnly(ctx)
}

// Merges reports whether the artifact at a path is of a kind that can be merged;
// a folder of several artifacts counts as one that can.
func (w *Workspace) Merges(p string) bool {
	r := w.Reader()
	var k kind.Kind
	declared := false
	if a, ok := w.Manifest.Declared(p); ok {
		k, declared = r.FolderKind(a.Kind)
	}
	if !declared {
		if seen, err := lookAt(w.local(p)); err != nil || seen.what == isFolder {
			return true
		}
		k = r.KindOf(p, head(w.local(p)))
	}
	_, merges := k.(kind.Writer)
	return merges
}

// Unlock gives locks back.
func (w *Workspace) Unlock(ctx context.Context, paths []string) error {
	if err := w.Chest.Unlock(ctx, w.Person, w.Name, paths); err != nil {
		return err
	}
	return w.MarkReadOnly(ctx)
}

// known lists the files of the workspace and of its base.
func (w *Workspace) known(ctx context.Context) ([]state.File, error) {
	now, err := w.Files(ctx)
	if err != nil {
		return nil, err
	}
	before, err := w.BaseState().Files(ctx)
	return append(now, before...), err
}

func anyUnder(files []state.File, p string) bool {
	for _, f := range files {
		if chest.Covers(p, f.Path) {
			return true
		}
	}
	return false
}

// required reports whether a path must be locked before it is edited. The kind
// is told by the path and the first bytes that the file has here.
func (w *Workspace) required(p string) bool {
	if len(w.Manifest.Locks) == 0 {
		return false
	}
	r := w.Reader()
	kindName := ""
	if a, ok := w.Manifest.Declared(r.Unit(p)); ok {
		kindName = a.Kind
	} else {
		kindName = r.KindOf(p, head(w.local(p))).Name()
	}
	return w.Manifest.LockPolicy(p, kindName) == manifest.Required
}

func head(full string) []byte {
	f, err := os.Open(full)
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, 4096)
	n, _ := f.Read(buf)
	return buf[:n]
}

// readOnly reports whether a file is to be read-only here: its policy requires
// a lock that this workspace does not hold.
func (w *Workspace) readOnly(p string) bool {
	if !w.required(p) {
		return false
	}
	locks, err := w.Chest.Locks(context.Background())
	return err == nil && !w.covered(locks, p)
}

// covered reports whether one of this workspace's locks reaches a path.
func (w *Workspace) covered(locks []ledger.Lock, p string) bool {
	for _, l := range locks {
		if w.holds(l) && chest.Covers(l.Address, p) {
			return true
		}
	}
	return false
}

// MarkReadOnly makes recorded files read-only whose policy requires a lock that
// is not held here, and all others writable that were so before.
func (w *Workspace) MarkReadOnly(ctx context.Context) error {
	if len(w.Manifest.Locks) == 0 {
		return nil
	}
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return err
	}
	recorded, err := w.BaseState().Files(ctx)
	if err != nil {
		return err
	}
	for _, f := range recorded {
		full := w.local(f.Path)
		info, err := os.Lstat(full)
		if err != nil || !info.Mode().IsRegular() || !w.required(f.Path) {
			continue
		}
		mode := info.Mode().Perm() | 0o200
		if !w.covered(locks, f.Path) {
			mode = info.Mode().Perm() &^ 0o222
		}
		if mode != info.Mode().Perm() {
			if err := os.Chmod(full, mode); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkLocks refuses changes of files that need a lock which is not held here,
// and says who holds it.
func (w *Workspace) checkLocks(ctx context.Context, changes []Change) error {
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return err
	}
	paths := make([]string, 0, len(changes))
	for _, c := range changes {
		paths = append(paths, c.Path)
		for _, p := range []string{c.Path, c.From} {
			if p == "" || p == c.Path && (c.State == New || c.State == Moved) || w.covered(locks, p) {
				continue
			}
			for _, l := range locks {
				if !w.holds(l) && chest.Covers(l.Address, p) {
					return fault.New(fault.Refused, "Nothing was recorded. Ask "+l.Holder+", or commit the other paths by naming them.", "%s is locked by %s.", p, chest.HolderText(l))
				}
			}
			if w.required(p) {
				return fault.New(fault.Refused, "Nothing was recorded. Take the lock with oaken lock "+filepath.ToSlash(p)+" and commit again.", "%s must be locked before it is changed, and nobody holds its lock.", p)
			}
		}
	}
	return w.checkObjectLocks(ctx, locks, paths)
}
