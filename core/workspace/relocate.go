package workspace

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/remote"
	"oakenchest/core/chest/wire"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Relocated is what Relocate has done.
type Relocated struct {
	// From and To are the places of the chest, before and now.
	From, To string
	// Moved says that the chest itself was brought there, Bytes large; else only this workspace looks for
	// it there.
	Moved bool
	Bytes int64
	// People are those who are named in a chest that came to a server, with their accounts there.
	People []wire.NamedPerson
}

// Relocate brings the chest to a folder that is missing or empty; where a folder holds it already, under
// another path, this workspace looks for it there.
func (w *Workspace) Relocate(ctx context.Context, location string) (*Relocated, error) {
	to, err := placeOf(location)
	if err != nil {
		return nil, err
	}
	if remote.IsAddress(to) {
		return w.relocateAfar(ctx, to)
	}
	if within(w.Root, to) {
		return nil, fault.New(fault.Usage, "Name a place outside of the folder.",
			"The chest's place %s lies inside the folder that it holds.", location)
	}
	r := &Relocated{From: w.Chest.Place(), To: to}
	if local.Exists(to) {
		return r, w.lookFor(ctx, to)
	}
	if w.signed != "" {
		return nil, fault.New(fault.Refused, "Copy it with oaken open, and begin a new chest with its files.",
			"The chest is at a server, %s, and can't be brought to a folder yet.", w.Chest.Place())
	}
	if w.Offline {
		return nil, fault.New(fault.Unreachable, "Name the folder in which it is now.",
			"The chest is out of reach in %s, and %s holds none.", w.Chest.Place(), location)
	}
	if within(w.Chest.Place(), to) {
		return nil, fault.New(fault.Usage, "Name a place outside of it.", "%s lies inside of the chest.", location)
	}
	r.Moved = true
	if r.Bytes, err = w.moveTo(ctx, to); err != nil {
		return nil, err
	}
	f, err := local.Open(ctx, to, w.host.Now)
	if err != nil {
		return nil, err
	}
	return r, w.standBy(ctx, found{Store: f, at: to})
}

// relocateAfar brings the chest to a server, or looks for it there when it is there already.
func (w *Workspace) relocateAfar(ctx context.Context, to string) (*Relocated, error) {
	r := &Relocated{From: w.Chest.Place(), To: to}
	if w.host.Servers == nil {
		_, err := w.host.openAfar(ctx, to)
		return nil, err
	}
	there, err := w.host.openAfar(ctx, to)
	if err == nil {
		if err := w.takeUp(ctx, there); err != nil {
			return nil, errors.Join(err, there.Close())
		}
		return r, w.standBy(ctx, there)
	}
	if !errors.Is(err, wire.ErrNoProject) {
		return nil, chest.Explain(err)
	}
	switch {
	case w.Offline:
		return nil, fault.New(fault.Unreachable, "Name the place in which it is now.", "The chest is out of reach in %s, and %s is none.",
			w.Chest.Place(), to)
	case w.folder == nil:
		return nil, fault.New(fault.Refused, "Whoever runs the servers moves it with oaken serve backup and oaken serve restore.",
			"The chest is at a server already, %s.", w.Chest.Place())
	}
	release, err := w.Chest.Alone(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := w.sameName(ctx, to); err != nil {
		return nil, err
	}
	came, err := w.host.Servers.Bring(ctx, w.folder, to, w.host.Progress)
	if err != nil {
		return nil, err
	}
	r.Moved, r.Bytes, r.People = true, came.Bytes, came.People
	if there, err = w.host.openAfar(ctx, to); err != nil {
		return nil, chest.Explain(err)
	}
	return r, w.standBy(ctx, there)
}

// sameName makes sure that who works here is called so at a server too: locks and unsent work would be nobody's.
func (w *Workspace) sameName(ctx context.Context, to string) error {
	s, person, err := w.host.Servers.Open(ctx, to)
	if err != nil {
		return err
	}
	if err := s.Close(); err != nil || person == w.Person {
		return err
	}
	return fault.New(fault.Refused, "Be called so here first: oaken person "+fault.Word(person)+".",
		"You are %s here, and %s at the server.", w.Person, person)
}

// takeUp makes sure that a project of a server is this chest. What is left of it in a folder here, because a command was killed
// that had brought it there, is given up: nobody must go on in it.
func (w *Workspace) takeUp(ctx context.Context, there found) error {
	if w.folder == nil || w.Offline {
		return w.proveThere(ctx, there)
	}
	at, err := w.folder.Moment(ctx)
	if err != nil {
		return err
	}
	if err := w.proveThere(ctx, there); err != nil {
		return err
	}
	if err := w.sameName(ctx, there.at); err != nil {
		return err
	}
	return chest.Explain(w.folder.LeaveFor(ctx, there.at, at))
}

// proveThere makes sure that a project of a server is the chest of this workspace: every branch is where it is here, or, where
// the chest is out of reach, the commit is there on which this workspace stands.
func (w *Workspace) proveThere(ctx context.Context, there found) error {
	other := chest.New(there.Store)
	if w.Offline || w.folder == nil {
		if w.Base.ID == (ledger.ID{}) {
			return fault.New(fault.Refused, "Get a new workspace with oaken open.",
				"Nothing is committed that would tell whether %s is this project.", there.at)
		}
		if _, err := other.Commit(ctx, w.Base.ID); err != nil {
			return fault.New(fault.Refused, "Name this project's address.",
				"%s does not hold %s, on which this workspace stands: it is another project, or an older copy.", there.at, Label(w.Base))
		}
		return nil
	}
	here, err := w.Chest.Branches(ctx)
	if err != nil {
		return err
	}
	for _, b := range here {
		is, err := other.Branch(ctx, b.Name)
		if err != nil || is.Tip != b.Tip || is.Tip == (ledger.ID{}) {
			return fault.New(fault.Refused, "To bring the chest there, choose a name that is free.",
				"%s is another project than the one in %s, or stands elsewhere on branch %s.", there.at, w.Chest.Place(), b.Name)
		}
	}
	return nil
}

// moveTo brings the chest to another folder, while nobody stores contents or gathers them.
func (w *Workspace) moveTo(ctx context.Context, to string) (int64, error) {
	release, err := w.Chest.Alone(ctx)
	if err != nil {
		return 0, err
	}
	defer release()
	return w.folder.MoveTo(ctx, to, w.host.Progress)
}

// within reports whether a folder lies in another one, or is it.
func within(outer, inner string) bool {
	rel, err := filepath.Rel(outer, inner)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// lookFor makes the workspace look for its chest in another folder, when it is there: where the chest can
// be reached, the two are one; else the other holds the commit that this workspace stands on.
func (w *Workspace) lookFor(ctx context.Context, to string) error {
	f, err := local.Open(ctx, to, w.host.Now)
	if err != nil {
		return err
	}
	if err := w.proveSame(ctx, f); err != nil {
		return errors.Join(err, f.Close())
	}
	return w.standBy(ctx, found{Store: f, at: to})
}

func (w *Workspace) proveSame(ctx context.Context, f *local.Folder) error {
	if !w.Offline {
		same, err := w.folder.SameAs(f)
		if err == nil && !same {
			err = fault.New(fault.Refused, "To bring the chest somewhere else, name an empty folder.",
				"%s holds another chest than the one in %s, which this workspace uses.", f.Dir, w.Chest.Place())
		}
		return err
	}
	if w.Base.ID == (ledger.ID{}) {
		return fault.New(fault.Refused, "Get a new workspace with oaken open.",
			"Nothing is committed that would tell whether %s holds this project.", f.Dir)
	}
	if _, err := chest.New(f).Commit(ctx, w.Base.ID); err != nil {
		return fault.New(fault.Refused, "Name the folder of this project's chest.",
			"%s does not hold %s, on which this workspace stands: it is another project, or an older copy.", f.Dir, Label(w.Base))
	}
	return nil
}

// standBy makes a chest this workspace's.
func (w *Workspace) standBy(ctx context.Context, f found) error {
	old, reached := w.Chest, w.folder != nil
	w.use(f)
	w.rec.Chest, w.Offline, w.registered = f.at, false, false
	w.unsent.Beside()
	if reached {
		if err := old.Close(); err != nil {
			return err
		}
	}
	if err := w.save(); err != nil {
		return err
	}
	w.keepFolders(ctx)
	return w.register(ctx)
}
