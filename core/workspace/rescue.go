package workspace

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// rescueDays is how long rescue copies are kept.
const rescueDays = 14

// rescueStamp is the form of the folders' names below .oaken/rescue.
const rescueStamp = "2006-01-02T150405.000Z"

// Rescued is a rescue copy: what a file was before a command overwrote it.
type Rescued struct {
	Path string
	// Time is when it was overwritten, in UTC.
	Time time.Time
	Size int64
	file string // where the copy lies
}

func (w *Workspace) rescueFolder() string { return filepath.Join(w.Root, Folder, "rescue") }

// rescue keeps copies of files and links that a command is about to overwrite and that no commit holds at
// their paths, and gives the folder that they are in, below the workspace; empty when there were none.
func (w *Workspace) rescue(ctx context.Context, paths []string) (string, error) {
	name := w.rescueName()
	kept := false
	for _, p := range paths {
		if w.committed(ctx, p) {
			continue
		}
		to := filepath.Join(w.Root, name, filepath.FromSlash(p))
		if err := os.MkdirAll(filepath.Dir(to), ownFolder); err != nil {
			return "", err
		}
		if err := copyAside(w.local(p), to); err != nil {
			return "", fault.New(fault.Failed, "Make room on the disk and try again; nothing was changed.", "No rescue copy of %s could be kept: %w.", p, err)
		}
		kept = true
	}
	if !kept {
		return "", nil
	}
	return filepath.ToSlash(name), nil
}

// rescueName gives the folder for the rescue copies of now, which is not there yet.
func (w *Workspace) rescueName() string {
	for at := w.host.Now().UTC(); ; at = at.Add(time.Millisecond) {
		name := filepath.Join(Folder, "rescue", at.Format(rescueStamp))
		if _, err := os.Lstat(filepath.Join(w.Root, name)); err != nil {
			return name
		}
	}
}

// committed reports whether what lies at a path can be had again: nothing, a folder, or what the base, a
// held commit or any other holds there. That the chest has the bytes is not enough: parked work and
// abandoned merges leave some there, which nobody can name.
func (w *Workspace) committed(ctx context.Context, p string) bool {
	seen, err := lookAt(w.local(p))
	if err != nil || seen.what != isFile && seen.what != isLink {
		return true
	}
	is, err := digestAt(w.local(p), seen.what)
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

// digestAt gives the digest of a file, or of where a link leads.
func digestAt(full string, what sort) (element.Digest, error) {
	if what == isLink {
		target, err := os.Readlink(full)
		return element.DigestOf([]byte(filepath.ToSlash(target))), err
	}
	d, _, err := digestFile(full)
	return d, err
}

// copyAside copies a file, or a link as a link.
func copyAside(from, to string) error {
	if target, err := os.Readlink(from); err == nil {
		return os.Symlink(target, to)
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm()|0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// RescueCopies lists the rescue copies of the chosen paths, the newest first.
func (w *Workspace) RescueCopies(paths []string) ([]Rescued, error) {
	var out []Rescued
	stamps, err := os.ReadDir(w.rescueFolder())
	if os.IsNotExist(err) {
		return nil, nil
	}
	for _, s := range stamps {
		at, parsed := time.Parse(rescueStamp, s.Name())
		if parsed != nil {
			continue
		}
		top := filepath.Join(w.rescueFolder(), s.Name())
		walked := filepath.WalkDir(top, func(full string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, err := filepath.Rel(top, full)
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err == nil && state.Under(paths, filepath.ToSlash(rel)) {
				out = append(out, Rescued{filepath.ToSlash(rel), at, info.Size(), full})
			}
			return err
		})
		if walked != nil {
			return nil, walked
		}
	}
	slices.SortStableFunc(out, func(a, b Rescued) int {
		if !a.Time.Equal(b.Time) {
			return b.Time.Compare(a.Time)
		}
		return strings.Compare(a.Path, b.Path)
	})
	return out, err
}

// ReturnRescued brings the newest rescue copy of each chosen path back into its
// place; what is there now becomes a rescue copy itself.
func (w *Workspace) ReturnRescued(ctx context.Context, paths []string) (*Restored, error) {
	copies, err := w.RescueCopies(paths)
	if err != nil {
		return nil, err
	}
	newest := map[string]Rescued{}
	for _, c := range slices.Backward(copies) {
		newest[c.Path] = c
	}
	if len(newest) == 0 {
		return nil, fault.New(fault.Usage, "oaken restore --rescued lists what can be brought back.", "There is no rescue copy of %s.", strings.Join(paths, ", "))
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
		if err := w.bringAside(newest[p]); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// bringAside puts a rescue copy into its place.
func (w *Workspace) bringAside(c Rescued) error {
	if target, err := os.Readlink(c.file); err == nil {
		return w.link(c.Path, filepath.ToSlash(target))
	}
	data, err := os.ReadFile(c.file)
	if err != nil {
		return err
	}
	info, err := os.Lstat(c.file)
	if err != nil {
		return err
	}
	return w.write(c.Path, data, info.Mode().Perm())
}

// forgettingName is the record of when rescue copies were first seen to be too old, and forgettingWait how
// long after that they go: a clock that jumps ahead for a moment takes nothing away.
const (
	forgettingName = "forgetting.json"
	forgettingWait = 24 * time.Hour
)

// forgetRescued removes rescue copies that are older than rescueDays, by two looks that lie a day apart.
func (w *Workspace) forgetRescued() error {
	stamps, err := os.ReadDir(w.rescueFolder())
	if os.IsNotExist(err) {
		return nil
	}
	now := w.host.Now()
	var old []string
	for _, s := range stamps {
		at, parsed := time.Parse(rescueStamp, s.Name())
		if parsed == nil && now.Sub(at) > rescueDays*24*time.Hour {
			old = append(old, filepath.Join(w.rescueFolder(), s.Name()))
		}
	}
	marker := filepath.Join(w.Root, Folder, forgettingName)
	if len(old) == 0 {
		if err := os.Remove(marker); err != nil && !os.IsNotExist(err) {
			return err
		}
		return nil
	}
	var first time.Time
	if w.readSealed(forgettingName, &first) != nil || first.After(now) {
		return w.writeSealed(forgettingName, now.UTC())
	}
	if now.Sub(first) < forgettingWait {
		return nil
	}
	for _, dir := range old {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	return os.Remove(marker)
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
		if c.is.Mode != 0 {
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
	return d, w.mark(ctx, pathsOf(d.Changes))
}
