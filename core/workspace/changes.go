package workspace

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// FileState is what became of a file since the workspace was brought here.
type FileState string

// The states of a file.
const (
	New       FileState = "new"
	Edited    FileState = "edited"
	Gone      FileState = "gone"
	Moved     FileState = "moved"
	Contested FileState = "contested" // edited while somebody else holds its lock
)

// Change is a file that commit would record.
type Change struct {
	Path string
	// From is the former path of a moved file.
	From  string
	State FileState
	// Kind is the word for the kind of the artifact that the file belongs to.
	Kind string
	// Why says why the artifact is kept as opaque.
	Why string
	// Holder is who has the lock of a contested file.
	Holder string

	was, is state.File
}

// Status is everything that `changes` tells.
type Status struct {
	Changes []Change
	// Held lists the locks of other people and workspaces.
	Held []ledger.Lock
	// Mine lists this workspace's own locks.
	Mine []ledger.Lock
	// Newer counts the commits of the branch that are not in this workspace.
	Newer int
}

// Changes compares the workspace with its base, and says the kind of each
// artifact that changed.
func (w *Workspace) Changes(ctx context.Context) (*Status, error) {
	s, now, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := w.nameKinds(s.Changes, now); err != nil {
		return nil, err
	}
	tip, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	err = w.Chest.Ancestors(ctx, tip.Tip, func(c ledger.Commit) (bool, error) {
		if c.ID == w.Base.ID || c.Generation <= w.Base.Generation {
			return false, nil
		}
		s.Newer++
		return true, nil
	})
	return s, err
}

// status is Changes without the kinds; it also gives the files as they are. When
// it may suppose, a file that was written since the last look counts as edited
// without being read.
func (w *Workspace) status(ctx context.Context, suppose bool) (*Status, []state.File, error) {
	before, err := w.BaseState().Files(ctx)
	if err != nil {
		return nil, nil, err
	}
	now, err := w.compared(ctx, before, suppose)
	if err != nil {
		return nil, nil, err
	}
	s := &Status{Changes: diff(before, now)}
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range locks {
		if w.holds(l) {
			s.Mine = append(s.Mine, l)
		} else {
			s.Held = append(s.Held, l)
		}
	}
	for i := range s.Changes {
		for _, l := range s.Held {
			if c := &s.Changes[i]; c.State != New && (chest.Covers(l.Address, c.Path) || chest.Covers(l.Address, c.From)) {
				c.State, c.Holder = Contested, l.Holder
			}
		}
	}
	return s, now, nil
}

// compared lists the files of the workspace, with digests as far as they are
// needed to tell what differs from before: a file of another size differs
// anyway, and a new one is looked into only when it may be one that moved.
func (w *Workspace) compared(ctx context.Context, before []state.File, suppose bool) ([]state.File, error) {
	was := byPath(before)
	now, err := w.scan(ctx, func(f state.File) bool {
		old, ok := was[f.Path]
		return ok && old.Size == f.Size && !suppose
	})
	if err != nil {
		return nil, err
	}
	gone := map[int64]bool{}
	is := byPath(now)
	for _, f := range before {
		if is[f.Path].Mode == 0 {
			gone[f.Size] = true
		}
	}
	for i, f := range now {
		if entry, left := w.unread[f.Path]; left && gone[f.Size] && was[f.Path].Mode == 0 {
			d, _, err := digestFile(w.local(f.Path))
			if err != nil {
				return nil, err
			}
			now[i].Digest = d
			w.learn(f.Path, entry, d)
		}
	}
	return now, nil
}

// learn tells the index the digest of a file that the scan left out.
func (w *Workspace) learn(p string, entry indexEntry, d element.Digest) {
	entry.digest = d
	w.index.entries[p] = entry
	delete(w.unread, p)
}

func (w *Workspace) holds(l ledger.Lock) bool { return l.Holder == w.Person && l.Workspace == w.Name }

// diff lists what differs between two sorted lists of files; a file that went
// and one of equal content that came are one that moved.
func diff(before, now []state.File) []Change {
	was := make(map[string]state.File, len(before))
	for _, f := range before {
		was[f.Path] = f
	}
	var out []Change
	seen := make(map[string]bool, len(now))
	for _, f := range now {
		seen[f.Path] = true
		old, ok := was[f.Path]
		switch {
		case !ok:
			out = append(out, Change{Path: f.Path, State: New, is: f})
		case !old.Same(f):
			out = append(out, Change{Path: f.Path, State: Edited, was: old, is: f})
		}
	}
	gone := map[element.Digest][]state.File{}
	for _, f := range before {
		if !seen[f.Path] {
			gone[f.Digest] = append(gone[f.Digest], f)
		}
	}
	for i := range out {
		c := &out[i]
		if list := gone[c.is.Digest]; c.State == New && c.is.Size > 0 && len(list) > 0 {
			c.State, c.From, c.was = Moved, list[0].Path, list[0]
			gone[c.is.Digest] = list[1:]
		}
	}
	for _, list := range gone {
		for _, f := range list {
			out = append(out, Change{Path: f.Path, State: Gone, was: f})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// nameKinds says of each changed artifact its kind, and whether it can be read.
func (w *Workspace) nameKinds(changes []Change, now []state.File) error {
	r := w.Reader()
	work := state.Listed(w.Work(), now)
	type finding struct{ kind, why string }
	known := map[string]finding{}
	for i := range changes {
		c := &changes[i]
		if c.is.Mode == 0 {
			c.Kind = w.kindByPath(r, c.Path)
			continue
		}
		unit := r.Unit(c.Path)
		f, ok := known[unit]
		if !ok {
			kind, why, err := r.Check(work, unit)
			if err != nil {
				return err
			}
			if f.kind = kind; why != nil {
				f.why = why.Error()
			}
			known[unit] = f
		}
		c.Kind, c.Why = f.kind, f.why
	}
	return nil
}

func (w *Workspace) kindByPath(r *state.Reader, p string) string {
	if a, ok := w.Manifest.Declared(r.Unit(p)); ok {
		return a.Kind
	}
	data, err := state.ReadFile(w.BaseState(), p)
	if err != nil {
		return w.host.Kinds.Opaque().Name()
	}
	return r.KindOf(p, data).Name()
}
