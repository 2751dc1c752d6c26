package workspace

import (
	"errors"
	"io"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/state"
)

// stagedFile is a file that is ready to be put into place, and lies in .oaken/staged until
// then: a command that is killed in between is finished by the next one.
type stagedFile struct {
	Path string `json:"path"`
	// File is its name in .oaken/staged; empty for a file that goes.
	File string `json:"file,omitempty"`
	// Link says that the file holds where a symbolic link leads.
	Link bool `json:"link,omitempty"`
}

func (w *Workspace) stagedFolder() string { return filepath.Join(w.Root, Folder, "staged") }

// stage makes a file of an edit ready.
func (w *Workspace) stage(e state.Edit) (stagedFile, error) {
	f := stagedFile{Path: e.Path}
	if e.Gone {
		return f, nil
	}
	if err := os.MkdirAll(w.stagedFolder(), ownFolder); err != nil {
		return f, err
	}
	out, err := os.CreateTemp(w.stagedFolder(), "s-*")
	if err != nil {
		return f, err
	}
	f.File = filepath.Base(out.Name())
	mode := e.Mode
	if e.Take.Mode == 0 {
		_, err = out.Write(e.Data)
	} else {
		mode = e.Take.Mode
		var in io.ReadCloser
		if in, err = w.Chest.Contents.Open(e.Take.Digest); err == nil {
			_, err = io.Copy(out, in)
			err = errors.Join(err, in.Close())
		}
		err = chest.Explain(err)
	}
	f.Link = mode == chest.Link
	perm := os.FileMode(0o666)
	if mode == chest.Executable {
		perm = 0o777
	}
	return f, errors.Join(err, out.Chmod(perm&^umask), out.Sync(), out.Close())
}

// placeStaged puts files into place that were not yet.
func (w *Workspace) placeStaged(list []stagedFile) error {
	for _, f := range list {
		from := filepath.Join(w.stagedFolder(), f.File)
		if f.File == "" {
			if err := w.remove(f.Path); err != nil {
				return err
			}
			continue
		}
		if _, err := os.Lstat(from); errors.Is(err, os.ErrNotExist) {
			continue // a command that was killed did it
		}
		if f.Link {
			target, err := os.ReadFile(from)
			if err == nil {
				err = w.link(f.Path, string(target))
			}
			if err := errors.Join(err, os.Remove(from)); err != nil {
				return err
			}
			continue
		}
		if err := w.place(from, f.Path); err != nil {
			return err
		}
	}
	return os.RemoveAll(w.stagedFolder())
}
