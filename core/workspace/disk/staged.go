package disk

import (
	"errors"
	"io"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/state"
)

// Staged is a file that is ready to be put into place, and lies in .oaken/staged until
// then: a command that is killed in between is finished by the next one.
type Staged struct {
	Path string `json:"path"`
	// File is its name in .oaken/staged; empty for a file that goes.
	File string `json:"file,omitempty"`
	// Link says that the file holds where a symbolic link leads.
	Link bool `json:"link,omitempty"`
}

func (t *Tree) stagedFolder() string { return t.Own("staged") }

// Stage makes a file of an edit ready; what the edit takes is in a store of contents.
func (t *Tree) Stage(e state.Edit, contents *content.Store) (Staged, error) {
	f := Staged{Path: e.Path}
	if e.Gone {
		return f, nil
	}
	if err := os.MkdirAll(t.stagedFolder(), OwnFolder); err != nil {
		return f, err
	}
	out, err := os.CreateTemp(t.stagedFolder(), "s-*")
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
		if in, err = contents.Open(e.Take.Digest); err == nil {
			_, err = io.Copy(out, in)
			err = errors.Join(err, in.Close())
		}
		err = chest.Explain(err)
	}
	f.Link = mode == chest.Link
	return f, errors.Join(err, out.Chmod(FileMode(mode == chest.Executable)), out.Sync(), out.Close())
}

// PlaceStaged puts files into place that were not yet.
func (t *Tree) PlaceStaged(list []Staged) error {
	for _, f := range list {
		from := filepath.Join(t.stagedFolder(), f.File)
		if f.File == "" {
			if err := t.Remove(f.Path); err != nil {
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
				err = t.Link(f.Path, string(target))
			}
			if err := errors.Join(err, os.Remove(from)); err != nil {
				return err
			}
			continue
		}
		if err := t.place(from, f.Path); err != nil {
			return err
		}
	}
	return os.RemoveAll(t.stagedFolder())
}
