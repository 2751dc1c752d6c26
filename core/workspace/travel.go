package workspace

import (
	"context"
	"os"
	"slices"

	"oakenchest/core/fault"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Switch brings the workspace to the tip of a branch. Edits of files that are
// alike on both branches come along; others are refused.
func (w *Workspace) Switch(ctx context.Context, name string) (Transition, error) {
	p, err := w.Pending()
	if err != nil {
		return Transition{}, err
	}
	if p != nil {
		return Transition{}, fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.",
			"%s is under way.", p.What)
	}
	if len(w.unsent.Commits) > 0 {
		return Transition{}, w.stillHeld()
	}
	b, err := w.Chest.Branch(ctx, name)
	if err != nil {
		return Transition{}, err
	}
	return w.switchTo(ctx, name, optionalID(b.Tip))
}

// optionalID writes an id, the empty text for the zero one.
func optionalID(id ledger.ID) string {
	if id == (ledger.ID{}) {
		return ""
	}
	return id.String()
}

// switchTo brings the workspace to a commit of a branch; an empty commit is the
// state before the first. Files named in keep stay as they are.
func (w *Workspace) switchTo(ctx context.Context, name, commit string, keep ...string) (Transition, error) {
	return w.switchFrom(ctx, disk.Journal{From: disk.Hex(w.tree()), Branch: name, Commit: commit, Keep: keep})
}

// switchFrom is switchTo, for a workspace whose files are those of a tree, and with files
// that are put into place at the end.
func (w *Workspace) switchFrom(ctx context.Context, j disk.Journal) (Transition, error) {
	from, err := disk.FromHex(j.From)
	if err != nil {
		return Transition{}, err
	}
	var tip ledger.Commit
	if j.Commit != "" {
		if tip, err = w.Chest.Resolve(ctx, j.Commit); err != nil {
			return Transition{}, err
		}
	}
	j.What = "switch"
	t, err := w.carry(ctx, from, tip.Tree, j.Branch, j.Keep, func() error { return w.disk.Intend(j) })
	if err != nil {
		return t, err
	}
	if err := w.disk.PlaceStaged(j.Staged); err != nil {
		return t, err
	}
	w.Branch = j.Branch
	if err := w.standOn(ctx, tip); err != nil {
		return t, err
	}
	if err := w.disk.Fulfilled(); err != nil {
		return t, err
	}
	before := w.Manifest.Locks
	if err := w.reloadManifest(); err != nil {
		return t, err
	}
	if !slices.Equal(before, w.Manifest.Locks) {
		return t, w.MarkAll(ctx)
	}
	return t, nil
}

func (w *Workspace) reloadManifest() error {
	data, err := os.ReadFile(w.disk.Local(manifest.Name))
	if os.IsNotExist(err) {
		w.Manifest = &manifest.Manifest{}
		w.leaveApart()
		return nil
	}
	if err != nil {
		return err
	}
	m, err := recipe.Manifest(data, w.host.Kinds)
	switch {
	case err == nil:
		w.Manifest, w.Broken = m, nil
		w.leaveApart()
	case w.Broken != nil: // it was so before
		return nil
	}
	return err
}

// Restored is what Restore has done.
type Restored struct {
	Paths   []string
	Rescued string
}

// Restore brings paths back as they are in a state: in place, or below another
// folder. In place, files that the state does not hold are removed, and what is
// overwritten is kept as a rescue copy.
func (w *Workspace) Restore(ctx context.Context, paths []string, from state.State, to string) (*Restored, error) {
	files, err := from.Files(ctx)
	if err != nil {
		return nil, err
	}
	var chosen []state.File
	for _, f := range files {
		if state.Under(paths, f.Path) {
			chosen = append(chosen, f)
		}
	}
	if chosen, err = w.withCompanions(ctx, from, chosen); err != nil {
		return nil, err
	}
	now, err := w.known(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range paths {
		if p != "." && !anyUnder(files, p) && (to != "" || !anyUnder(now, p)) {
			return nil, fault.New(fault.Usage, "oaken compare "+from.Label()+" work shows what it holds.", "%s holds no %s.", from.Label(),
				p).Among(p, state.NamesOf(files))
		}
	}
	if to != "" {
		paths, err := w.PutOut(ctx, chosen, from, to)
		if err != nil {
			return nil, err
		}
		return &Restored{Paths: paths}, nil
	}
	return w.restoreHere(ctx, paths, chosen, from)
}

func (w *Workspace) restoreHere(ctx context.Context, paths []string, chosen []state.File, from state.State) (*Restored, error) {
	present, err := w.Files(ctx)
	if err != nil {
		return nil, err
	}
	is := state.ByPath(present)
	if slices.Contains(paths, ".") { // everything means the part that is laid out
		chosen = slices.DeleteFunc(chosen, func(f state.File) bool { return is[f.Path].Mode == 0 && !w.wanted(f.Path) })
	}
	want := state.ByPath(chosen)
	var overwrite, extra []string
	var write []state.File
	for _, f := range chosen {
		if !is[f.Path].Same(f) {
			write = append(write, f)
			overwrite = append(overwrite, f.Path)
		}
	}
	for _, f := range present {
		if _, stays := want[f.Path]; !stays && state.Under(paths, f.Path) {
			extra = append(extra, f.Path)
		}
	}
	if err := w.locking.NotOthers(ctx, append(overwrite, extra...), "Bring it back into another folder with --to FOLDER."); err != nil {
		return nil, err
	}
	r := &Restored{}
	if r.Rescued, err = w.rescue(ctx, append(overwrite, extra...)); err != nil {
		return nil, err
	}
	commit, journalled := from.(state.Commit)
	if journalled {
		if err := w.disk.Intend(disk.Journal{What: "restore", Tree: disk.Hex(commit.Tree), Paths: paths}); err != nil {
			return nil, err
		}
	}
	for _, f := range write {
		if err := w.disk.ClearWay(f.Path, func(p string) bool { return want[p].Mode != 0 }); err != nil {
			return nil, err
		}
		r.Paths = append(r.Paths, f.Path)
	}
	if err := w.disk.FetchAll(ctx, from, write, nil); err != nil {
		return nil, err
	}
	for _, p := range extra {
		if err := w.disk.Remove(p); err != nil {
			return nil, err
		}
		r.Paths = append(r.Paths, p)
	}
	if journalled {
		if err := w.disk.Fulfilled(); err != nil {
			return nil, err
		}
	}
	return r, w.locking.Mark(ctx, r.Paths)
}

// WriteFiles writes files below a folder of the project, the top one for an empty name,
// nil ones removed, and gives their paths. What it overwrites and no commit holds is kept as a rescue
// copy, in the folder that is given back.
func (w *Workspace) WriteFiles(ctx context.Context, folder string, files map[string][]byte) (paths []string, rescued string, err error) {
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, "", err
	}
	changed := map[string]bool{}
	for _, c := range s.Changes {
		changed[c.Path] = true
	}
	if folder != "" {
		folder += "/"
	}
	var edited []string
	for name := range files {
		p := folder + name
		paths = append(paths, p)
		if changed[p] {
			edited = append(edited, p)
		}
	}
	slices.Sort(paths)
	if rescued, err = w.rescue(ctx, edited); err != nil {
		return nil, "", err
	}
	var written []string
	for _, p := range paths { // what goes makes room first
		if files[p[len(folder):]] != nil {
			written = append(written, p)
		} else if err := w.disk.Remove(p); err != nil {
			return nil, "", err
		}
	}
	err = w.disk.OnAllCores(ctx, len(written), func(i int) error {
		return w.disk.Write(written[i], files[written[i][len(folder):]], w.modeHere(written[i]))
	})
	if err != nil {
		return nil, "", err
	}
	return paths, rescued, nil
}
