package trust

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"oakenchest/core/fault"
)

// Book is the file in which the words of one person on one machine are kept, by project.
type Book struct{ File string }

// entry is one word that was given.
type entry struct {
	Wish  string    `json:"wish"`  // its digest
	Says  string    `json:"says"`  // what it was, for people
	Since time.Time `json:"since"` // UTC
}

// pages is the whole file.
type pages struct {
	Schema   string             `json:"schema"`
	Projects map[string][]entry `json:"projects"` // by the place of the chest
}

const bookSchema = "oaken.trusted/1"

func (b Book) read() (*pages, error) {
	p := &pages{Schema: bookSchema, Projects: map[string][]entry{}}
	data, err := os.ReadFile(b.File)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(data, p)
	}
	if err == nil && p.Schema != bookSchema {
		err = errors.New("it is of another form")
	}
	if err != nil {
		return nil, fault.New(fault.Refused, "Remove it to be asked again.", "What was agreed to on this machine, %s, can't be read: %w.",
			b.File, err)
	}
	if p.Projects == nil {
		p.Projects = map[string][]entry{}
	}
	return p, nil
}

// Lacking lists the wishes of a project that nobody has agreed to.
func (b Book) Lacking(project string, wishes []Wish) ([]Wish, error) {
	p, err := b.read()
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(wishes), func(w Wish) bool {
		return slices.ContainsFunc(p.Projects[project], func(e entry) bool { return e.Wish == w.Digest() })
	}), nil
}

// Agree notes that somebody agreed to wishes of a project.
func (b Book) Agree(project string, wishes []Wish, now time.Time) error {
	lacking, err := b.Lacking(project, wishes)
	if err != nil || len(lacking) == 0 {
		return err
	}
	p, err := b.read()
	if err != nil {
		return err
	}
	for _, w := range lacking {
		p.Projects[project] = append(p.Projects[project], entry{w.Digest(), string(w.Sort) + " " + w.Name + ": " + w.Shown(), now.UTC()})
	}
	return b.write(p)
}

// Forget takes back all that was agreed to of a project, and gives how much it was.
func (b Book) Forget(project string) (int, error) {
	p, err := b.read()
	if err != nil || len(p.Projects[project]) == 0 {
		return 0, err
	}
	n := len(p.Projects[project])
	delete(p.Projects, project)
	return n, b.write(p)
}

func (b Book) write(p *pages) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	err = os.MkdirAll(filepath.Dir(b.File), 0o700)
	var f *os.File
	if err == nil {
		f, err = os.CreateTemp(filepath.Dir(b.File), "trusted-*") // 0600
	}
	if err == nil {
		_, err = f.Write(append(data, '\n'))
		if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
			err = os.Rename(f.Name(), b.File)
		}
		if err != nil {
			os.Remove(f.Name())
		}
	}
	if err != nil {
		return fault.New(fault.Unreachable, "Check that you may write there, or give your word with --trust DIGEST.",
			"What you agree to can't be kept: %w.", err)
	}
	return nil
}
