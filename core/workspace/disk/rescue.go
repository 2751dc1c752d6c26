package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

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

func (t *Tree) rescueFolder() string { return t.Own("rescue") }

// Rescue keeps copies of files and links that a command is about to overwrite and that can't be had again by what
// committed says of a path, and gives the folder that they are in, below the workspace; empty when there were none.
func (t *Tree) Rescue(paths []string, committed func(p string) bool) (string, error) {
	name := t.RescueName()
	kept := false
	for _, p := range paths {
		if committed(p) {
			continue
		}
		to := filepath.Join(t.Root, name, filepath.FromSlash(p))
		if err := os.MkdirAll(filepath.Dir(to), OwnFolder); err != nil {
			return "", err
		}
		if err := copyAside(t.Local(p), to); err != nil {
			return "", fault.New(fault.Failed, "Make room on the disk and try again; nothing was changed.",
				"No rescue copy of %s could be kept: %w.", p, err)
		}
		kept = true
	}
	if !kept {
		return "", nil
	}
	return filepath.ToSlash(name), nil
}

// RescueName gives the folder for the rescue copies of now, which is not there yet.
func (t *Tree) RescueName() string {
	for at := t.Now().UTC(); ; at = at.Add(time.Millisecond) {
		name := filepath.Join(Folder, "rescue", at.Format(rescueStamp))
		if _, err := os.Lstat(filepath.Join(t.Root, name)); err != nil {
			return name
		}
	}
}

// DigestAt gives the digest of a file, or of where a link leads.
func DigestAt(full string, what Sort) (element.Digest, error) {
	if what == IsLink {
		target, err := os.Readlink(full)
		return element.DigestOf([]byte(filepath.ToSlash(target))), err
	}
	d, _, err := DigestFile(full)
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
func (t *Tree) RescueCopies(paths []string) ([]Rescued, error) {
	var out []Rescued
	stamps, err := os.ReadDir(t.rescueFolder())
	if os.IsNotExist(err) {
		return nil, nil
	}
	for _, s := range stamps {
		at, parsed := time.Parse(rescueStamp, s.Name())
		if parsed != nil {
			continue
		}
		top := filepath.Join(t.rescueFolder(), s.Name())
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

// BringBack puts a rescue copy into its place.
func (t *Tree) BringBack(c Rescued) error {
	if target, err := os.Readlink(c.file); err == nil {
		return t.Link(c.Path, filepath.ToSlash(target))
	}
	data, err := os.ReadFile(c.file)
	if err != nil {
		return err
	}
	info, err := os.Lstat(c.file)
	if err != nil {
		return err
	}
	return t.Write(c.Path, data, info.Mode().Perm())
}

// forgettingName is the record of when rescue copies were first seen to be too old, and forgettingWait how
// long after that they go: a clock that jumps ahead for a moment takes nothing away.
const (
	forgettingName = "forgetting.json"
	forgettingWait = 24 * time.Hour
)

// ForgetRescued removes rescue copies that are older than rescueDays, by two looks that lie a day apart.
func (t *Tree) ForgetRescued() error {
	stamps, err := os.ReadDir(t.rescueFolder())
	if os.IsNotExist(err) {
		return nil
	}
	now := t.Now()
	var old []string
	for _, s := range stamps {
		at, parsed := time.Parse(rescueStamp, s.Name())
		if parsed == nil && now.Sub(at) > rescueDays*24*time.Hour {
			old = append(old, filepath.Join(t.rescueFolder(), s.Name()))
		}
	}
	marker := t.Own(forgettingName)
	if len(old) == 0 {
		if err := os.Remove(marker); err != nil && !os.IsNotExist(err) {
			return err
		}
		return nil
	}
	var first time.Time
	if t.ReadSealed(forgettingName, &first) != nil || first.After(now) {
		return t.WriteSealed(forgettingName, now.UTC())
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
