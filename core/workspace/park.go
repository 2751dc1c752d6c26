package workspace

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
	"oakenchest/core/workspace/merging"
)

// ParkOptions are the choices of Park.
type ParkOptions struct {
	Name string
	// Paths narrows what is set aside; none means everything that changed.
	Paths []string
	Note  string
	// Shared lets others see it.
	Shared bool
}

// Park sets changes aside in the chest, under a name, and takes them back here. Every
// workspace of the person can bring them back. Locks stay as they are.
func (w *Workspace) Park(ctx context.Context, o ParkOptions) ([]Change, error) {
	if err := chest.CheckName(o.Name); err != nil {
		return nil, err
	}
	if p, err := w.Pending(); err != nil || p != nil {
		if err == nil {
			err = fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.",
				"%s is under way.", p.What)
		}
		return nil, err
	}
	if len(w.unsent.Commits) > 0 {
		return nil, w.stillHeld()
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	chosen, _ := w.choose(s.Changes, o.Paths)
	if err := w.checkPaths(ctx, o.Paths, chosen); err != nil {
		return nil, err
	}
	if len(chosen) == 0 {
		return nil, fault.New(fault.Usage, "oaken changes lists what can be set aside.",
			"Nothing has changed, so there is nothing to set aside.")
	}
	if _, found, err := w.Chest.Parked(ctx, w.Person, o.Name); err != nil || found {
		if err == nil {
			err = fault.New(fault.Usage, "Choose another name, or bring that back first with oaken unpark "+fault.Word(o.Name)+".",
				"You have set something aside as %s already.", o.Name)
		}
		return nil, err
	}
	release, err := w.Chest.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	batch := w.Chest.Contents.Begin(ctx)
	defer batch.Abandon()
	tree, chosen, err := w.store(ctx, batch, chosen)
	if err != nil {
		return nil, err
	}
	p := ledger.Parked{Person: w.Person, Name: o.Name, Workspace: w.Name, Branch: w.Branch, Base: w.Base.ID, Tree: disk.Hex(tree),
		Time: w.host.Now().UTC().Truncate(time.Millisecond), Note: o.Note, Shared: o.Shared,
		Paths: strings.Join(disk.PathsOf(chosen), "\n")}
	if err := w.Chest.Park(ctx, p); err != nil {
		return nil, err
	}
	written := map[string]string{}
	for _, c := range chosen {
		written[c.Path] = ""
	}
	if err := errors.Join(w.undo(chosen, written), w.reloadManifest()); err != nil {
		return nil, err
	}
	w.announceRest(ctx, s.Changes, chosen)
	return chosen, w.locking.Mark(ctx, disk.PathsOf(chosen))
}

// Unparked is what Unpark has done.
type Unparked struct {
	Paths []string
	// Combined lists artifacts that were changed here too.
	Combined  []state.Combined
	Conflicts []element.Conflict
	Rescued   string
}

// Unpark brings back what was set aside, as changes that are not committed. What was
// changed here meanwhile is combined by element; where that leaves conflicts, they are
// laid open when nothing is edited here, else nothing is changed. keep leaves it parked as
// well.
func (w *Workspace) Unpark(ctx context.Context, p ledger.Parked, keep bool) (*Unparked, error) {
	if under, err := w.Pending(); err != nil || under != nil {
		if err == nil {
			err = fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.",
				"%s is under way.", under.What)
		}
		return nil, err
	}
	base, theirs, err := w.parkedStates(ctx, p)
	if err != nil {
		return nil, err
	}
	m, err := w.Reader().Merge(ctx, base, w.Work(), theirs, nil)
	if err != nil {
		return nil, err
	}
	out := &Unparked{Conflicts: m.Conflicts, Combined: m.Artifacts}
	if len(m.Conflicts) > 0 {
		return out, w.unparkOpen(ctx, p, base, m, keep)
	}
	for _, e := range m.Edits {
		out.Paths = append(out.Paths, e.Path)
	}
	if err := w.locking.NotOthers(ctx, out.Paths, "It stays parked; ask its holder."); err != nil {
		return nil, err
	}
	if out.Rescued, err = w.rescue(ctx, out.Paths); err != nil {
		return nil, err
	}
	for _, e := range m.Edits {
		if err := w.merging.PutEdit(e, theirs); err != nil {
			return nil, err
		}
	}
	if err := w.reloadManifest(); err != nil || keep {
		return out, err
	}
	return out, w.Chest.Unpark(ctx, p.Person, p.Name)
}

// unparkOpen lays conflicts open, in a workspace where nothing else is edited.
func (w *Workspace) unparkOpen(ctx context.Context, p ledger.Parked, base state.State, m *state.Merged, keep bool) error {
	s, _, err := w.status(ctx, false)
	if err != nil {
		return err
	}
	if len(s.Changes) > 0 || len(w.unsent.Commits) > 0 {
		return fault.New(fault.Conflict,
			"It stays parked, nothing was changed. Commit what is edited here, or take it back, and try again; or bring single files "+
				"back with oaken restore PATH --from parked:"+p.Name+".",
			"What is parked as %s can't be combined with what is here, at %s%s.", p.Name, m.Conflicts[0].Address, more(len(m.Conflicts)-1))
	}
	message := p.Note
	if message == "" {
		message = "What was parked as " + p.Name
	}
	pending := &Pending{What: "unpark " + p.Name, Message: message, Base: disk.Hex(base.(state.Commit).Tree), Mine: disk.Hex(w.tree()),
		Theirs: p.Tree}
	if !keep {
		pending.Parked = &merging.ParkedName{Person: p.Person, Name: p.Name}
	}
	_, err = w.begin(ctx, pending)
	return err
}

// parkedStates gives the state that parked work was done on, and that with it.
func (w *Workspace) parkedStates(ctx context.Context, p ledger.Parked) (base, theirs state.State, err error) {
	tree, err := disk.FromHex(p.Tree)
	if err != nil {
		return nil, nil, err
	}
	var on ledger.Commit
	if p.Base != (ledger.ID{}) {
		if on, err = w.Chest.Commit(ctx, p.Base); err != nil {
			return nil, nil, err
		}
	}
	return w.CommitState(on, Label(on)), state.Commit{Chest: w.Chest, Tree: tree, Name: "parked:" + p.Name}, nil
}

// ParkedState is the state of parked work.
func (w *Workspace) ParkedState(ctx context.Context, p ledger.Parked) (state.State, error) {
	_, theirs, err := w.parkedStates(ctx, p)
	return theirs, err
}

// FindParked gives what was parked under a name: one's own, or what somebody else shares,
// which may be named PERSON/NAME.
func (w *Workspace) FindParked(ctx context.Context, name string) (ledger.Parked, error) {
	all, err := w.Chest.AllParked(ctx)
	if err != nil {
		return ledger.Parked{}, err
	}
	all = slices.DeleteFunc(all, func(p ledger.Parked) bool { return p.Person != w.Person && !p.Shared })
	for _, p := range all {
		if p.Person == w.Person && p.Name == name {
			return p, nil
		}
	}
	var found []ledger.Parked
	for _, p := range all {
		if p.Name == name || p.Person+"/"+p.Name == name {
			found = append(found, p)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return ledger.Parked{}, fault.New(fault.Usage, "oaken park lists what is set aside.", "Nothing is parked as %s.", name)
	}
	return ledger.Parked{}, fault.New(fault.Usage, "Name its person too: "+found[0].Person+"/"+name+".",
		"Several people have parked something as %s.", name)
}
