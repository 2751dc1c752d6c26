package workspace

import (
	"context"
	"crypto/rand"
	"encoding/hex"

	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// markOf tells this workspace, and who works in it, from others of the name.
func (w *Workspace) markOf() string {
	if w.Person == w.rec.Person {
		return w.rec.Mark
	}
	return w.rec.Mark + "/" + w.Person
}

// presence is what this workspace tells of itself.
func (w *Workspace) presence() ledger.Workspace {
	return ledger.Workspace{Name: w.Name, Mark: w.markOf(), Person: w.Person, Machine: w.host.Machine, Folder: w.Root, Branch: w.Branch,
		Base: w.Base.ID, Held: len(w.unsent.Commits), Seen: w.host.Now()}
}

// register makes sure that the chest knows this workspace, under a name that no other one
// has.
func (w *Workspace) register(ctx context.Context) error {
	if w.registered {
		return nil
	}
	known, err := w.Chest.Workspace(ctx, w.Name)
	if err != nil {
		return err
	}
	if w.rec.Mark == "" || w.copied(known) {
		var random [8]byte
		if _, err := rand.Read(random[:]); err != nil {
			return err
		}
		w.rec.Mark = hex.EncodeToString(random[:])
		if err := w.save(); err != nil {
			return err
		}
	}
	if known.Mark != w.markOf() {
		name, err := w.Chest.Register(ctx, w.presence())
		if err != nil {
			return err
		}
		w.Name = name
		w.Chest.Actor = w.actor()
		if w.Person == w.rec.Person && w.rec.Name != name {
			w.rec.Name = name
			if err := w.save(); err != nil {
				return err
			}
		}
	}
	w.registered = true
	if w.locking.Shared(ctx) && !w.rec.Guarded && w.Base.ID != (ledger.ID{}) {
		w.rec.Guarded = true
		if err := w.save(); err != nil {
			return err
		}
		files, err := w.BaseState().Files(ctx)
		if err != nil {
			return err
		}
		return w.locking.Mark(ctx, state.PathsOf(files))
	}
	return nil
}

// copied reports whether this workspace is a copy of another one's folder, which is still
// there: the two must not pass for one.
func (w *Workspace) copied(known ledger.Workspace) bool {
	if known.Mark != w.markOf() || known.Folder == w.Root || known.Machine != w.host.Machine {
		return false
	}
	other, err := readRecord(known.Folder)
	return err == nil && other.Mark == w.rec.Mark
}

// Accept notes that a person works in this workspace besides the one who has it.
func (w *Workspace) Accept() error {
	if !w.Stranger {
		return nil
	}
	w.rec.People, w.Stranger = append(w.rec.People, w.Person), false
	return w.save()
}

// Owner is the person whose workspace it is.
func (w *Workspace) Owner() string { return w.rec.Person }

// Notices gives what others left for this workspace; read takes it away.
func (w *Workspace) Notices(ctx context.Context) (list []ledger.Notice, read func() error, err error) {
	if w.Offline {
		return nil, func() error { return nil }, nil
	}
	return w.Chest.Notices(ctx, w.Name)
}
