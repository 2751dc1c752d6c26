package workspace

import (
	"context"
	"os"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// guard decides which files are read-only here: those whose policy requires a lock that
// this workspace does not hold.
//
// Where no rule speaks of an artifact, a kind that can't be merged requires its lock as
// soon as the project is shared: another workspace is known, or the chest lies outside.
type guard struct {
	w      *Workspace
	rules  *manifest.Manifest
	locks  *chest.LockSet
	inside map[string]bool // artifacts in which this workspace holds the lock of something
	shared bool
}

func (w *Workspace) guard(ctx context.Context, locks []ledger.Lock) guard {
	g := guard{w, w.ruling(ctx), chest.NewLockSet(locks), map[string]bool{}, w.shared(ctx)}
	for _, l := range locks {
		if path, _, object := strings.Cut(l.Address, "::"); object && w.holds(l) {
			g.inside[path] = true
		}
	}
	return g
}

// ruling gives the manifest whose rules of locks count: that of the first branch, unless this
// person may change its rules, or it can't be read. Then the workspace's own does.
func (w *Workspace) ruling(ctx context.Context) *manifest.Manifest {
	if w.Offline {
		return w.Manifest
	}

	first, err := w.Chest.Branch(ctx, chest.FirstBranch)
	if err != nil {
		return w.Manifest
	}
	rules, err := w.FirstManifest(ctx)
	if err != nil || rules == nil || rules.Team.MayChangeRules(w.Person, first.Author) {
		return w.Manifest
	}
	return rules
}

// idle says that no policy can ask for anything.
func (g guard) idle() bool { return len(g.rules.Locks) == 0 && !g.shared }

func (g guard) policy(p string, head func() []byte) manifest.Policy {
	if g.idle() {
		return manifest.Off
	}
	r := g.w.Reader()
	var k kind.Kind
	if a, ok := g.w.Manifest.Declared(r.Unit(p)); ok {
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

func (g guard) required(p string, head func() []byte) bool {
	return g.policy(p, head) == manifest.Required
}

func (g guard) advised(p string, head func() []byte) bool {
	return g.policy(p, head) == manifest.Advised
}

// readOnly reports whether a file is to be read-only here.
func (g guard) readOnly(p string, head func() []byte) bool {
	return !g.idle() && !g.w.covered(g.locks, p) && !g.inside[g.w.Reader().Unit(p)] && !g.w.waived(p) && g.required(p, head)
}

// shared reports whether others may work in the project.
func (w *Workspace) shared(ctx context.Context) bool {
	if w.rec.Chest != "" {
		return true
	}
	if w.alone == nil {
		crowd, err := w.Chest.Others(ctx, w.Name)
		alone := err != nil || crowd == 0
		w.alone = &alone
	}
	return !*w.alone
}

// mark gives recorded files at some paths that need a lock their mode: read-only, or
// writable.
func (w *Workspace) mark(ctx context.Context, paths []string) error {
	if w.Offline || w.guard(ctx, nil).idle() && !w.loosened || len(paths) == 0 {
		return nil
	}
	var locks []ledger.Lock
	var err error
	if len(paths) > 100 {
		locks, err = w.Chest.Locks(ctx)
	} else {
		locks, err = w.Chest.LocksNear(ctx, paths)
	}
	if err != nil {
		return err
	}
	g := w.guard(ctx, locks)
	for _, p := range paths {
		if err := ctx.Err(); err != nil {
			return err
		}
		full := w.local(p)
		info, err := os.Lstat(full)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		begins := func() []byte { return head(full) }
		mode := info.Mode().Perm() | 0o200
		if g.readOnly(p, begins) {
			mode = info.Mode().Perm() &^ 0o222
		} else if mode == info.Mode().Perm() || !g.required(p, begins) && !w.loosened {
			continue
		}
		if mode != info.Mode().Perm() {
			if err := w.chmod(p, mode); err != nil {
				return err
			}
		}
	}
	return nil
}

// markUnder marks the recorded files that some locks reach.
func (w *Workspace) markUnder(ctx context.Context, locks []ledger.Lock) error {
	if w.guard(ctx, nil).idle() {
		return nil
	}
	var paths []string
	for _, l := range locks {
		switch {
		case l.Pattern || l.Address == ".":
			files, err := w.BaseState().Files(ctx)
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
			base := w.BaseState().(state.Commit)
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
	return w.mark(ctx, paths)
}

// MarkAll marks all recorded files: the rules for locks changed, or the first other
// workspace came. Files that need no lock become writable.
func (w *Workspace) MarkAll(ctx context.Context) error {
	w.loosened = true
	defer func() { w.loosened = false }()
	files, err := w.BaseState().Files(ctx)
	if err != nil {
		return err
	}
	return w.mark(ctx, pathsOfFiles(files))
}

func pathsOfFiles(files []state.File) []string {
	out := make([]string, len(files))
	for i, f := range files {
		out[i] = f.Path
	}
	return out
}
