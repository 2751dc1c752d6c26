//go:build !unix

package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// spot is a name in a folder of the project. No folder on the way to it was a link when it was made.
type spot struct{ full string }

// spot finds the folder of a project path, never through a link. With create, folders that are missing are
// made.
func (t *Tree) spot(p string, create bool) (*spot, error) {
	if manifest.OwnIn(p) || !filepath.IsLocal(filepath.FromSlash(p)) {
		return nil, fault.New(fault.Refused, "Nothing was written there.", "%s is a name that no file of a project can have here.", p)
	}
	for i, r := range p {
		if r != '/' {
			continue
		}
		info, err := os.Lstat(t.Local(p[:i]))
		if errors.Is(err, fs.ErrNotExist) && create {
			if err = os.Mkdir(t.Local(p[:i]), 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
				return nil, err
			}
			info, err = os.Lstat(t.Local(p[:i]))
		}
		if err != nil {
			return nil, err
		}
		if !info.IsDir() {
			return nil, fault.New(fault.Refused, "Move it away first.", "%s is in the way: a folder has to go there.", p[:i])
		}
	}
	return &spot{t.Local(p)}, nil
}

func (s *spot) close() {}

// take brings a file, or a link, from elsewhere to the spot, in the place of what is there.
func (s *spot) take(from string) error { return os.Rename(from, s.full) }

// give brings what is at the spot to another place.
func (s *spot) give(to string) error { return os.Rename(s.full, to) }

// remove takes away a file, a link or an empty folder; fs.ErrNotExist when there is nothing.
func (s *spot) remove() error { return os.Remove(s.full) }

// rmdir takes away an empty folder.
func (s *spot) rmdir() error {
	if info, err := os.Lstat(s.full); err != nil || !info.IsDir() {
		return errors.Join(err, fs.ErrInvalid)
	}
	return os.Remove(s.full)
}

// mkdir makes a folder; one that is there is fine.
func (s *spot) mkdir() error {
	err := os.Mkdir(s.full, 0o777)
	if info, there := os.Lstat(s.full); errors.Is(err, fs.ErrExist) && there == nil && info.IsDir() {
		return nil
	}
	return err
}

// chmod gives a plain file other permission bits; a link is left alone.
func (s *spot) chmod(mode os.FileMode) error {
	if info, err := os.Lstat(s.full); err != nil || !info.Mode().IsRegular() {
		return err
	}
	return os.Chmod(s.full, mode)
}
