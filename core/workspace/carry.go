package workspace

import (
	"context"
	"errors"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/workspace/disk"
)

// Transition is what a move from one commit to another has done.
type Transition = disk.Transition

// carry brings the files of the workspace from one tree to another, as disk.Move does. Files named in keep are left
// alone.
func (w *Workspace) carry(ctx context.Context, from, to content.Digest, label string, keep []string,
	begin func() error) (Transition, error) {
	stays, err := w.leftOutFrom(from, to)
	if err != nil {
		return Transition{}, err
	}
	m := &disk.Move{Tree: w.disk, Chest: w.Chest, From: from, To: to, Label: label, Keep: keep, Wanted: w.wanted, Stays: stays,
		Guards: w.readOnly}
	t, err := m.Run(ctx, begin)
	var blocked *disk.Blocked
	if errors.As(err, &blocked) {
		return t, &blockedError{blocked.Paths,
			fault.New(fault.Refused, "Commit them, or take them back with oaken discard PATH, and try again.",
				"%s edited here and would be overwritten: %s.", isAre(len(blocked.Paths)), listed(blocked.Paths))}
	}
	return t, err
}

// blockedError is disk.Blocked for people.
type blockedError struct {
	paths  []string
	refuse *fault.Error
}

// Error gives the first sentence for people.
func (e *blockedError) Error() string { return e.refuse.Error() }

// Unwrap gives the error for people.
func (e *blockedError) Unwrap() error { return e.refuse }

// leftOutFrom says which files go from the records because they are left out from one tree to another, such as a
// database that became an environment: they stay, as nobody's but this workspace's. It gives nil for none.
func (w *Workspace) leftOutFrom(from, to content.Digest) (func(p string) bool, error) {
	was, err := w.Chest.At(from, manifest.Name)
	if err != nil {
		return nil, chest.Explain(err)
	}
	is, err := w.Chest.At(to, manifest.Name)
	if err != nil || is.Same(was) {
		return nil, chest.Explain(err)
	}
	m, err := w.ManifestIn(to)
	if err != nil {
		return nil, nil // what can't be read leaves nothing out
	}
	return m.LeftOut, nil
}

// readOnly gives what says which files become read-only: those that need a lock which is not held.
func (w *Workspace) readOnly(ctx context.Context) (disk.ReadOnly, error) {
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	g := w.locking.Guard(ctx, locks)
	if g.Idle() {
		return nil, nil
	}
	return g.ReadOnly, nil
}

// Recorded reports whether a path is a file of the commit that the workspace stands on.
func (w *Workspace) Recorded(p string) (bool, error) {
	f, err := w.Chest.At(w.tree(), p)
	return f.Mode != 0 && f.Mode != chest.Folder, chest.Explain(err)
}

// RecordedIn lists the names of the files that lie right in a folder of the commit that the workspace stands
// on; none for a folder that is not there.
func (w *Workspace) RecordedIn(folder string) ([]string, error) {
	at, err := w.Chest.At(w.tree(), folder)
	if err != nil || at.Mode != chest.Folder {
		return nil, chest.Explain(err)
	}
	entries, err := w.Chest.Entries(at.Digest)
	var out []string
	for _, e := range entries {
		if e.Mode != chest.Folder {
			out = append(out, e.Path)
		}
	}
	return out, chest.Explain(err)
}

// Free lets a file that is to be recorded no longer be written.
func (w *Workspace) Free(p string) { w.disk.Free(p) }

// listed writes the first few of many names.
func listed(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}
