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
	"oakenchest/core/state"
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
	work, err := w.withChanges(ctx, changes)
	if err != nil {
		return nil, err
	}
	found := make([]*Unreadable, len(units))
	var together sync.Mutex // the readings of the base share a cache
	err = w.onAllCores(ctx, len(units), func(i int) error {
		is, checked := known[units[i]]
		if !checked {
			var err error
			if is, err = r.Check(work, units[i]); err != nil {
				return nil // a file that is gone meanwhile is no artifact
			}
		}
		if is.Why == nil {
			return nil
		}
		together.Lock()
		defer together.Unlock()
		was, err := r.Read(ctx, w.BaseState(), units[i])
		if err == nil && was.Why == nil {
			found[i] = &Unreadable{units[i], was.Kind.Name(), is.Why.Error()}
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

// withChanges is the base with some changes: what a commit of them comes to.
func (w *Workspace) withChanges(ctx context.Context, changes []Change) (*state.Snapshot, error) {
	files, err := w.BaseState().Files(ctx)
	if err != nil {
		return nil, err
	}
	is := byPath(files)
	s := chosenState{State: w.BaseState(), work: w.Work(), chosen: map[string]bool{}}
	for _, c := range changes {
		s.chosen[c.Path] = true
		if c.From != "" {
			delete(is, c.From)
		}
		if delete(is, c.Path); c.is.Mode != 0 {
			is[c.Path] = c.is
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

// touchedUnits lists the artifacts that changes may make unreadable, by path: those that were there before
// and are still.
func (w *Workspace) touchedUnits(changes []Change) ([]string, error) {
	r := w.Reader()
	var out []string
	folders := map[string]bool{}
	opaque := w.host.Kinds.Opaque().Name()
	for _, c := range changes {
		folders[path.Dir(c.Path)] = true
		if unit := r.Unit(c.Path); unit != c.Path || c.State == Edited && c.is.Mode != chest.Link && w.kindByPath(r, c.Path) != opaque {
			out = append(out, unit)
		}
	}
	for dir := range folders {
		at, err := w.Chest.At(w.tree(), dir)
		if err != nil || at.Mode != chest.Folder {
			continue // a new folder, or one that a name leads to nowhere
		}
		entries, err := w.Chest.Entries(at.Digest)
		if err != nil {
			return nil, chest.Explain(err)
		}
		for _, e := range entries {
			if seen, err := lookAt(w.local(path.Join(dir, e.Path))); err == nil && seen.what == isFile && strings.EqualFold(path.Ext(e.Path), ".gltf") {
				out = append(out, path.Join(dir, e.Path))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
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
		return nil, fault.New(fault.Refused, "Mend it, or leave it out of the commit; the project's rules refuse it, under [check] in oaken.toml.", "%s%s", warnings[0], more(len(lost)-1))
	}
	if o.Consent != nil && !o.Consent(lost) {
		return nil, fault.New(fault.Refused, "Mend it, or take it back with oaken discard "+fault.Word(lost[0].Path)+".", "Nothing was committed.")
	}
	return warnings, nil
}
