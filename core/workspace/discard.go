package workspace

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/workspace/disk"
)

// committed reports whether what lies at a path can be had again: nothing, a folder, or what the base, a
// held commit or any other holds there. That the chest has the bytes is not enough: parked work and
// abandoned merges leave some there, which nobody can name.
func (w *Workspace) committed(ctx context.Context, p string) bool {
	seen, err := disk.LookAt(w.disk.Local(p))
	if err != nil || seen.Sort != disk.IsFile && seen.Sort != disk.IsLink {
		return true
	}
	is, err := disk.DigestAt(w.disk.Local(p), seen.Sort)
	if err != nil {
		return false
	}
	if base, err := w.Chest.At(w.tree(), p); err == nil && base.Mode != chest.Folder && base.Digest == is {
		return true
	}
	if w.Offline || !w.Chest.Contents.Has(is) {
		return false
	}
	held, err := w.Chest.Recorded(ctx, p, is)
	return err == nil && held
}

// rescue keeps copies of what a command is about to overwrite, as disk.Tree.Rescue does.
func (w *Workspace) rescue(ctx context.Context, paths []string) (string, error) {
	return w.disk.Rescue(paths, func(p string) bool { return w.committed(ctx, p) })
}

// RescueCopies lists the rescue copies of the chosen paths, the newest first.
func (w *Workspace) RescueCopies(paths []string) ([]disk.Rescued, error) {
	return w.disk.RescueCopies(paths)
}

// ReturnRescued brings the newest rescue copy of each chosen path back into its
// place; what is there now becomes a rescue copy itself.
func (w *Workspace) ReturnRescued(ctx context.Context, paths []string) (*Restored, error) {
	copies, err := w.RescueCopies(paths)
	if err != nil {
		return nil, err
	}
	newest := map[string]disk.Rescued{}
	for _, c := range slices.Backward(copies) {
		newest[c.Path] = c
	}
	if len(newest) == 0 {
		return nil, fault.New(fault.Usage, "oaken restore --rescued lists what can be brought back.", "There is no rescue copy of %s.",
			strings.Join(paths, ", "))
	}
	r := &Restored{}
	for p := range newest {
		r.Paths = append(r.Paths, p)
	}
	slices.Sort(r.Paths)
	if r.Rescued, err = w.rescue(ctx, r.Paths); err != nil {
		return nil, err
	}
	for _, p := range r.Paths {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := w.disk.BringBack(newest[p]); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// Discarded is what Discard has done.
type Discarded struct {
	Changes []Change
	Rescued string
}

// Discard takes back the edits of the chosen paths; what is lost by that is
// kept as a rescue copy.
func (w *Workspace) Discard(ctx context.Context, paths []string) (*Discarded, error) {
	p, err := w.Pending()
	if err != nil {
		return nil, err
	}
	if p != nil {
		return nil, fault.New(fault.Conflict, "Give the whole of it up with oaken merge --abandon.", "%s is under way.", p.What)
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	d := &Discarded{}
	d.Changes, _ = w.choose(s.Changes, paths)
	if err := w.checkPaths(ctx, paths, d.Changes); err != nil {
		return nil, err
	}
	var lost []string
	written := map[string]string{}
	for _, c := range d.Changes {
		if c.Is.Mode != 0 {
			lost = append(lost, c.Path)
		}
		written[c.Path] = ""
	}
	if err := w.canBring(d.Changes); err != nil {
		return nil, err
	}
	if d.Rescued, err = w.rescue(ctx, lost); err != nil {
		return nil, err
	}
	if err := w.undo(d.Changes, written); err != nil {
		return nil, err
	}
	if err := w.reloadManifest(); err != nil {
		return nil, err
	}
	return d, w.locking.Mark(ctx, disk.PathsOf(d.Changes))
}
