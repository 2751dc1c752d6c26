package service

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// Desk is where what people write is understood: a workspace, the folder that they write from, and what reaches the
// environments.
type Desk struct {
	Workspace *workspace.Workspace
	// Folder is where relative paths begin.
	Folder string
	// Mover gives what reaches environments; it is asked when one is named.
	Mover func() *pipeline.Mover
}

// prefixes begin the states that are no commits.
var prefixes = []string{"env:", "file:", "parked:"}

// beside reports whether a text names a state that is no commit.
func beside(text string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(text, p) {
			return true
		}
	}
	return text == "work"
}

// State gives the state that a person wrote: work, BRANCH, BRANCH:NUMBER, release:NAME, env:NAME, parked:NAME, file:PATH
// or the first characters of a commit's id.
func (d Desk) State(ctx context.Context, text string) (state.State, error) {
	w := d.Workspace
	if text == "work" {
		return w.Work(), nil
	}
	if name, ok := strings.CutPrefix(text, "env:"); ok {
		return d.Mover().State(ctx, name)
	}
	if name, ok := strings.CutPrefix(text, "file:"); ok {
		return FileState(d.Folder, name)
	}
	if name, ok := strings.CutPrefix(text, "parked:"); ok {
		p, err := w.FindParked(ctx, name)
		if err != nil {
			return nil, err
		}
		return w.ParkedState(ctx, p)
	}
	c, err := w.CommitOf(ctx, text)
	if err != nil {
		return nil, err
	}
	return w.CommitState(c, text), nil
}

// FileState is a file on disk as a state of its own; a relative name begins at a folder.
func FileState(folder, name string) (state.State, error) {
	full := name
	if !filepath.IsAbs(full) {
		full = filepath.Join(folder, name)
	}
	info, err := os.Stat(full)
	if err != nil || info.IsDir() {
		return nil, fault.New(fault.Usage, "Check the path after file:.", "There is no file %s.", name)
	}
	s := state.Memory{Name: "file:" + name, Contents: map[string][]byte{}}
	s.Contents[filepath.Base(full)], err = os.ReadFile(full)
	return s, err
}

// Commit gives the commit that a person wrote.
func (d Desk) Commit(ctx context.Context, text string) (ledger.Commit, error) {
	if beside(text) {
		return ledger.Commit{}, fault.New(fault.Usage, "Name a branch, BRANCH:NUMBER, a release or a commit's id.",
			"%s is not recorded in the chest.", text)
	}
	return d.Workspace.CommitOf(ctx, text)
}

// Record gives the commit that a person wrote; env:NAME means what that one is known to hold.
func (d Desk) Record(ctx context.Context, text string) (ledger.Commit, error) {
	name, is := strings.CutPrefix(text, "env:")
	if !is {
		return d.Commit(ctx, text)
	}
	r, known, err := d.Workspace.Chest.Record(ctx, name)
	if err == nil && !known {
		err = fault.New(fault.Usage, "Name a branch, BRANCH:NUMBER, a release or a commit's id.",
			"Nothing is known of what %s holds.", name)
	}
	return r.Commit, err
}

// IsState reports whether a word names a state; when it names a path as well, it is a state, and ./PATH names the path.
func (d Desk) IsState(ctx context.Context, text string) (bool, error) {
	if beside(text) || strings.HasPrefix(text, "release:") {
		return true, nil
	}
	_, err := d.Workspace.CommitOf(ctx, text)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, chest.ErrNoState) && !strings.Contains(text, ":"):
		return false, nil
	}
	return false, err
}

// Paths gives the paths of the project that a person wrote.
func (d Desk) Paths(args []string) ([]string, error) {
	var out []string
	for _, arg := range args {
		p, err := d.Workspace.ProjectPath(d.Folder, arg)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// Elements parts words into addresses of elements, with paths of the project, and the rest.
func (d Desk) Elements(args []string) (elements []element.Address, rest []string, err error) {
	for _, arg := range args {
		if !strings.Contains(arg, "::") {
			rest = append(rest, arg)
			continue
		}
		e, err := element.ParseAddress(arg)
		if err != nil {
			return nil, nil, fault.New(fault.Usage, "Write PATH::type:key or PATH::type:key.property, as oaken compare does.",
				"That is no address: %w.", err)
		}
		if e.Path, err = d.Workspace.ProjectPath(d.Folder, e.Path); err != nil {
			return nil, nil, err
		}
		elements = append(elements, e)
	}
	return elements, rest, nil
}

// Addresses gives what a person wrote as paths of the project and whole addresses of elements; fresh says that these need
// not be there.
func (d Desk) Addresses(ctx context.Context, args []string, fresh bool) ([]string, error) {
	var out []string
	for _, arg := range args {
		if !workspace.IsObject(arg) {
			p, err := d.Workspace.ProjectPath(d.Folder, arg)
			if err != nil {
				return nil, err
			}
			out = append(out, p)
			continue
		}
		list, _, err := d.Elements([]string{arg})
		if err != nil {
			return nil, err
		}
		one, err := d.Workspace.ObjectAddress(ctx, list[0].String(), fresh)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// timeForms are the ways in which a time may be written.
var timeForms = []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02", time.RFC3339}

// Time reads a time that a person wrote: a day, a day with a time, the name of a weekday that is to come, or a length of
// time from now such as 3d.
func Time(text string, now time.Time) (time.Time, error) {
	for _, form := range timeForms {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	for d := time.Sunday; d <= time.Saturday; d++ {
		if strings.EqualFold(text, d.String()) {
			local := now.Local()
			days := (int(d) - int(local.Weekday()) + 7) % 7
			if days == 0 {
				days = 7
			}
			return time.Date(local.Year(), local.Month(), local.Day()+days, 23, 59, 0, 0, time.Local), nil
		}
	}
	if d, err := manifest.Duration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	return time.Time{}, fault.New(fault.Usage, "Write 2026-12-01, \"2026-12-01 22:00\", Friday, or a length such as 8h or 3d.",
		"%q is no time.", text)
}

// errNoLength says that a text is no length of time.
var errNoLength = fault.New(fault.Usage, "Write 2h, 30m or 1d.", "That is no time.")

// Length reads a length of time that a person wrote, such as 2h, 30m or 3d.
func Length(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		d, err := time.ParseDuration(days + "h")
		if d <= 0 {
			return 0, errNoLength
		}
		return 24 * d, err
	}
	d, err := time.ParseDuration(text)
	if err == nil && d <= 0 {
		err = errNoLength
	}
	return d, err
}
