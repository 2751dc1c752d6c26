package workspace

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
	"oakenchest/core/workspace/locking"
)

// LockOptions are the choices of Lock.
type LockOptions struct {
	Reason string
	// For is how long the locks last; 0 for what the project says.
	For time.Duration
	// TakeSilent takes over the locks of workspaces without sign of life.
	TakeSilent bool
}

// Locked is what Lock has done.
type Locked struct {
	// LaidOut lists files that were brought into a workspace of a part of the project.
	LaidOut []string
	Locks   []ledger.Lock
	// Taken lists the stale locks of others that were taken over.
	Taken []ledger.Lock
	// Brought is what was newer in the branch and came in first; nil for nothing.
	Brought *Synced
	// Newer tells what had changed of what is locked.
	Newer []state.Difference
	// Clash says why newer commits could not come in: what is edited here of what is
	// locked can't be combined with them. A commit lays that open.
	Clash error
}

// IsPattern reports whether what a person wrote is a pattern of paths: it holds signs of
// one, and nothing has that very name.
func (w *Workspace) IsPattern(p string) bool {
	if locking.IsObject(p) || !strings.ContainsAny(p, "*?[{") {
		return false
	}
	_, err := os.Lstat(w.disk.Local(p))
	return err != nil
}

// Lock takes locks on project paths, patterns of paths and addresses of elements for this
// workspace, all or none. It makes sure that the copy of what is locked is the newest:
// when the branch has newer commits that changed it, they are brought in, and when they
// can't be, nothing is locked, unless it is edited here already. Files become writable.
func (w *Workspace) Lock(ctx context.Context, addresses []string, o LockOptions) (*Locked, error) {
	var wanted []ledger.Lock
	now := w.host.Now()
	for _, a := range addresses {
		l := ledger.Lock{Address: a, Holder: w.Person, Workspace: w.Name, Since: now, Reason: o.Reason, Pattern: w.IsPattern(a)}
		l.Folder = !l.Pattern && w.isFolder(a)
		if lasts := max(o.For, 0); lasts > 0 || w.locking.Ruling(ctx).Team.LockTime() > 0 {
			if lasts == 0 {
				lasts = w.locking.Ruling(ctx).Team.LockTime()
			}
			l.Ends = now.Add(lasts)
		}
		if err := w.lockable(ctx, l); err != nil {
			return nil, err
		}
		wanted = append(wanted, l)
	}
	if err := w.register(ctx); err != nil {
		return nil, err
	}
	out := &Locked{Locks: wanted}
	var had []string
	var err error
	out.Taken, had, err = w.Chest.Lock(ctx, chest.TakeLocks{Wanted: wanted, Now: now, SilentAfter: w.locking.Ruling(ctx).Team.Silence(),
		TakeSilent: o.TakeSilent})
	if err != nil {
		return nil, err
	}
	if err := w.newest(ctx, wanted, out); err != nil {
		if edited, _ := w.EditedUnder(ctx, wanted); len(edited) > 0 && fault.CodeOf(err) == fault.Conflict {
			out.Clash = err
			return out, errors.Join(w.settleWaived(wanted), w.locking.MarkUnder(ctx, wanted))
		}
		var took []string
		for _, l := range wanted {
			if !slices.Contains(had, l.Address) {
				took = append(took, l.Address)
			}
		}
		_, undo := w.Chest.Unlock(ctx, chest.FreeLocks{Holder: w.Person, Workspace: w.Name, Addresses: took, Now: now})
		if fault.CodeOf(undo) == fault.Usage { // some lock reached it already
			undo = nil
		}
		return nil, errors.Join(err, undo)
	}
	if err := w.settleWaived(wanted); err != nil {
		return nil, err
	}
	if out.LaidOut, err = w.layOutLocked(ctx, wanted); err != nil {
		return nil, err
	}
	return out, w.locking.MarkUnder(ctx, append(wanted, out.Taken...))
}

// layOutLocked brings, into a workspace of a part of the project, the files that were locked: whoever
// locks one means to work on it. Folders and patterns bring nothing.
func (w *Workspace) layOutLocked(ctx context.Context, locks []ledger.Lock) ([]string, error) {
	if len(w.rec.Only) == 0 {
		return nil, nil
	}
	var paths []string
	for _, l := range locks {
		p, _, _ := strings.Cut(l.Address, "::")
		if _, err := os.Lstat(w.disk.Local(p)); l.Pattern || l.Folder || err == nil || w.wanted(p) {
			continue
		}
		paths = append(paths, p)
	}
	if len(paths) == 0 {
		return nil, nil
	}
	r, err := w.Restore(ctx, paths, w.BaseState(), "")
	if err != nil {
		return nil, err
	}
	return r.Paths, nil
}

// isFolder reports whether a path is a folder, here or in the base.
func (w *Workspace) isFolder(p string) bool {
	if locking.IsObject(p) {
		return false
	}
	if seen, err := disk.LookAt(w.disk.Local(p)); err == nil {
		return seen.Sort == disk.IsFolder
	}
	f, err := w.Chest.At(w.tree(), p)
	return err == nil && f.Mode == chest.Folder
}

// lockable refuses what is neither here nor in the base, and patterns that fit nothing.
func (w *Workspace) lockable(ctx context.Context, l ledger.Lock) error {
	hint := "Check the spelling; oaken changes and oaken find show paths as the project has them."
	switch {
	case l.Pattern:
		if !doublestar.ValidatePattern(l.Address) {
			return fault.New(fault.Usage, "Write *, ** and ? for any text, any folders and any sign.",
				"%q is not a well-formed pattern.", l.Address)
		}
		files, err := w.known(ctx)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(files, func(f state.File) bool { return chest.Reaches(l, f.Path) }) {
			return fault.New(fault.Usage, hint, "No path of this project fits %s.", l.Address)
		}
	case !locking.IsObject(l.Address) && l.Address != ".":
		if _, err := os.Lstat(w.disk.Local(l.Address)); err == nil && !w.Manifest.LeftOut(l.Address) {
			return nil
		}
		f, err := w.Chest.At(w.tree(), l.Address)
		if err != nil {
			return chest.Explain(err)
		}
		if f.Mode == 0 {
			files, _ := w.known(ctx)
			return fault.New(fault.Usage, hint, "There is no %s in this project.", l.Address).Among(l.Address, state.NamesOf(files))
		}
	}
	return nil
}

// newest brings the branch's newer commits in when they changed what is locked.
func (w *Workspace) newest(ctx context.Context, locks []ledger.Lock, out *Locked) error {
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || b.Tip == w.Base.ID || b.Tip == (ledger.ID{}) {
		return err
	}
	tip, err := w.Chest.Commit(ctx, b.Tip)
	if err != nil {
		return err
	}
	pairs, err := w.Chest.Diff(w.Base.Tree, tip.Tree)
	if err != nil {
		return chest.Explain(err)
	}
	var paths []string
	for _, p := range pairs {
		for _, l := range locks {
			if path, _, _ := strings.Cut(l.Address, "::"); chest.Reaches(l, p.Path) || chest.Covers(path, p.Path) {
				paths = append(paths, w.Reader().Unit(p.Path))
				break
			}
		}
	}
	if len(paths) == 0 {
		return nil
	}
	if len(w.unsent.Commits) > 0 { // bringing it in publishes them, and may leave conflicts
		return fault.New(fault.Refused, "Run oaken sync first; it also publishes what is unsent.", "%s is newer in %s than here.",
			paths[0], w.Branch)
	}
	slices.Sort(paths)
	before := w.CommitState(w.Base, Label(w.Base))
	if out.Brought, err = w.Sync(ctx); err != nil {
		return err
	}
	out.Newer, err = w.Reader().Compare(ctx, before, w.CommitState(w.Base, Label(w.Base)), slices.Compact(paths))
	return err
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
		if seen, err := disk.LookAt(w.disk.Local(p)); err != nil || seen.Sort == disk.IsFolder {
			return true
		}
		k = r.KindOf(p, locking.Head(w.disk.Local(p)))
	}
	_, merges := k.(kind.Writer)
	return merges
}

// Unlock gives locks back. With force it ends those of others, for a reason that they are
// told, when the project lets this person.
func (w *Workspace) Unlock(ctx context.Context, addresses []string, force bool, reason string) ([]ledger.Lock, error) {
	if !force {
		if err := w.heldUnder(addresses); err != nil {
			return nil, err
		}
	} else {
		if !w.locking.Ruling(ctx).Team.FreesLocks(w.Person) {
			return nil, fault.New(fault.Refused, "Ask one of "+strings.Join(w.locking.Ruling(ctx).Team.MayFreeLocks,
				", ")+"; oaken.toml names them under [team].", "%s may not end the locks of others.", w.Person)
		}
		if strings.TrimSpace(reason) == "" {
			return nil, fault.New(fault.Usage, "Say it with -m TEXT; the holder is told.", "Ending somebody's lock needs a reason.")
		}
	}
	freed, err := w.Chest.Unlock(ctx, chest.FreeLocks{Holder: w.Person, Workspace: w.Name, Addresses: addresses, Force: force,
		Reason: reason, Now: w.host.Now()})
	if err != nil {
		return nil, err
	}
	return freed, w.locking.MarkUnder(ctx, freed)
}

// heldUnder refuses to give back a lock under which something is committed here and not
// published: whoever took it next would not have that.
func (w *Workspace) heldUnder(addresses []string) error {
	for _, h := range w.unsent.Commits {
		for _, p := range h.Paths {
			for _, a := range addresses {
				if chest.Reaches(ledger.Lock{Address: a, Pattern: w.IsPattern(a)}, p) || strings.HasPrefix(a, p+"::") {
					return fault.New(fault.Refused, "Publish it first, with oaken sync; that ends the lock.",
						"%s is in an unsent commit.", p)
				}
			}
		}
	}
	return nil
}

// Waive lets files be edited whose locks this workspace does not hold. What is edited so
// is contested: it stays out of commits until the lock is had.
func (w *Workspace) Waive(ctx context.Context, paths []string) error {
	for _, p := range paths {
		if locking.IsObject(p) || w.IsPattern(p) {
			return fault.New(fault.Usage, "Name files or folders.", "%s can't be edited without its lock.", p)
		}
		if err := w.lockable(ctx, ledger.Lock{Address: p}); err != nil {
			return err
		}
		if !slices.Contains(w.rec.Waived, p) {
			w.rec.Waived = append(w.rec.Waived, p)
		}
	}
	if err := w.save(); err != nil {
		return err
	}
	var under []ledger.Lock
	for _, p := range paths {
		under = append(under, ledger.Lock{Address: p})
	}
	return w.locking.MarkUnder(ctx, under)
}

// ground is what the rules for locks ask of the workspace.
type ground struct{ *Workspace }

// Outside says that the chest lies outside of the workspace.
func (g ground) Outside() bool { return g.rec.Chest != "" }

// Waived lists what is edited here without its lock.
func (g ground) Waived() []string { return g.rec.Waived }

// MarkAll marks all recorded files: the rules for locks changed, or the first other workspace came.
func (w *Workspace) MarkAll(ctx context.Context) error { return w.locking.MarkAll(ctx) }

// WantsLock reports whether the project requires or advises a lock for a file that is edited here, and this workspace
// does not hold it.
func (w *Workspace) WantsLock(ctx context.Context, p string) bool { return w.locking.WantsLock(ctx, p) }

// ObjectAddress gives the whole address of an element that a person named, as it is in the workspace or in the base. An
// element that is nowhere is refused, unless fresh says that it is still to come.
func (w *Workspace) ObjectAddress(ctx context.Context, text string, fresh bool) (string, error) {
	return w.locking.ObjectAddress(ctx, text, fresh)
}

// IsObject says that an address names an element rather than a file or folder.
func IsObject(address string) bool { return locking.IsObject(address) }

// settleWaived forgets what was edited without a lock and has it now.
func (w *Workspace) settleWaived(locks []ledger.Lock) error {
	n := len(w.rec.Waived)
	w.rec.Waived = slices.DeleteFunc(w.rec.Waived, func(p string) bool {
		return slices.ContainsFunc(locks, func(l ledger.Lock) bool { return chest.Reaches(l, p) })
	})
	if len(w.rec.Waived) == n {
		return nil
	}
	return w.save()
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
