package workspace

import (
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Unreadable is an artifact that could be read as what it is before an edit, and can't any more: a scene
// whose buffer is gone, a document that is not closed.
type Unreadable struct {
	Path string
	// Kind is what it was read as.
	Kind string
	// Why says what is wrong, with the place.
	Why string
}

// String is a sentence about it.
func (u Unreadable) String() string {
	return fmt.Sprintf("%s can be read as %s no more: %s", u.Path, u.Kind, u.Why)
}

// unreadable lists what changes make unreadable: edited artifacts, and scenes beside files that changed,
// which may need them. known is what is known already of some artifacts.
func (w *Workspace) unreadable(ctx context.Context, changes []Change, known map[string]state.Checked) ([]Unreadable, error) {
	units, err := w.touchedUnits(changes)
	if err != nil || len(units) == 0 {
		return nil, err
	}
	r := w.Reader()
	work, err := w.withChanges(ctx, changes, units)
	if err != nil {
		return nil, err
	}
	found := make([]*Unreadable, len(units))
	var together sync.Mutex // the readings of the base share a cache
	err = w.disk.OnAllCores(ctx, len(units), func(i int) error {
		u := units[i]
		is, checked := known[u.path]
		if !checked {
			var err error
			if is, err = r.Check(work, u.path); err != nil {
				return nil // a file that is gone meanwhile is no artifact
			}
		}
		plain := r.Kinds.IsFallback(is.Kind)
		if is.Why == nil && plain && u.was != "" && u.was != is.Kind {
			found[i] = &Unreadable{u.path, u.was, "it does not begin like one"}
		}
		if is.Why == nil {
			return nil
		}
		together.Lock()
		defer together.Unlock()
		was, err := r.Read(ctx, w.BaseState(), u.path)
		if err == nil && was.Why == nil {
			found[i] = &Unreadable{u.path, was.Kind.Name(), is.Why.Error()}
		}
		return nil
	})
	var out []Unreadable
	for _, u := range found {
		if u != nil {
			out = append(out, *u)
		}
	}
	return out, err
}

// withChanges is the base with some changes, as far as artifacts may need it: what a commit of the changes
// comes to. Only what consists of several files, or names others, needs more than the changes.
func (w *Workspace) withChanges(ctx context.Context, changes []Change, units []affected) (*state.Snapshot, error) {
	is := map[string]state.File{}
	if slices.ContainsFunc(units, func(u affected) bool { return u.several }) {
		files, err := w.BaseState().Files(ctx)
		if err != nil {
			return nil, err
		}
		is = state.ByPath(files)
	}
	s := chosenState{State: w.BaseState(), work: w.Work(), chosen: map[string]bool{}}
	for _, c := range changes {
		s.chosen[c.Path] = true
		if c.From != "" {
			delete(is, c.From)
		}
		if delete(is, c.Path); c.Is.Mode != 0 {
			is[c.Path] = c.Is
		}
	}
	return state.Listed(s, slices.Collect(maps.Values(is))), nil
}

// chosenState has some files as they are in the workspace, the others as the base has them.
type chosenState struct {
	state.State
	work   state.State
	chosen map[string]bool
}

// Open opens a file.
func (s chosenState) Open(p string) (io.ReadCloser, error) {
	if s.chosen[p] {
		return s.work.Open(p)
	}
	return s.State.Open(p)
}

// affected is an artifact that changes may make unreadable.
type affected struct {
	path string
	// was is the kind that the base's file begins like; empty where that was not looked at.
	was string
	// several says that it consists of several files, or may need others.
	several bool
}

// touchedUnits lists the artifacts that changes may make unreadable, by path: those that were there before
// and are still.
func (w *Workspace) touchedUnits(changes []Change) ([]affected, error) {
	r := w.Reader()
	out := map[string]affected{}
	folders := map[string]bool{}
	for _, c := range changes {
		folders[path.Dir(c.Path)] = true
		switch unit := r.Unit(c.Path); {
		case unit != c.Path:
			out[unit] = affected{path: unit, several: true}
		case c.State == Edited && c.Is.Mode != chest.Link && c.Was.Mode != chest.Link && c.Is.Size <= kind.MaxFile &&
			c.Was.Size <= kind.MaxFile:
			begins, err := w.beginning(c.Was)
			if err != nil {
				return nil, err
			}
			if k := r.KindOf(c.Path, begins).Name(); !r.Kinds.IsFallback(k) {
				out[unit] = affected{unit, k, r.Kinds.Gathers(unit)}
			}
		}
	}
	for dir := range folders {
		if err := w.gatherersIn(dir, out); err != nil {
			return nil, err
		}
	}
	return slices.SortedFunc(maps.Values(out), func(a, b affected) int { return strings.Compare(a.path, b.path) }), nil
}

// beginning gives the first bytes of a file of the base.
func (w *Workspace) beginning(f state.File) ([]byte, error) {
	in, err := w.Chest.Contents.Open(f.Digest)
	if err != nil {
		if w.Offline {
			return nil, nil // nobody can tell
		}
		return nil, chest.Explain(err)
	}
	defer in.Close()
	var begin [kind.HeadSize]byte
	n, _ := io.ReadFull(in, begin[:]) // what can't be read is no kind
	return begin[:n], nil
}

// gatherersIn adds the files in a folder of the base that may be made of others and are still there.
func (w *Workspace) gatherersIn(dir string, out map[string]affected) error {
	names, err := w.RecordedIn(dir)
	if err != nil {
		return err
	}
	kinds := w.Reader().Kinds
	for _, name := range names {
		if !kinds.Gathers(name) {
			continue
		}
		p := path.Join(dir, name)
		if seen, err := disk.LookAt(w.disk.Local(p)); err == nil && seen.Sort == disk.IsFile {
			out[p] = affected{path: p, several: true}
		}
	}
	return nil
}

// checkReadable refuses a commit of what can't be read any more where the project's rules or the person,
// who is asked when there is one, say so; else it gives warnings.
func (w *Workspace) checkReadable(ctx context.Context, chosen []Change, o CommitOptions) (warnings []string, err error) {
	lost, err := w.unreadable(ctx, chosen, nil)
	if err != nil || len(lost) == 0 {
		return nil, err
	}
	for _, u := range lost {
		warnings = append(warnings, u.String())
	}
	if w.Manifest.Check.Refuses() {
		return nil, fault.New(fault.Refused,
			"Mend it, or leave it out of the commit; the project's rules refuse it, under [check] in oaken.toml.", "%s%s", warnings[0],
			more(len(lost)-1))
	}
	if o.Consent != nil && !o.Consent(lost) {
		return nil, fault.New(fault.Refused, "Mend it, or take it back with oaken discard "+fault.Word(lost[0].Path)+".",
			"Nothing was committed.")
	}
	return warnings, nil
}
