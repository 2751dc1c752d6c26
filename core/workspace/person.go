package workspace

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/fault"
)

// BeCalled gives the person who has this workspace another name from now on. What was recorded under the
// name before stays so. It is refused while the person holds locks or commits here.
func (w *Workspace) BeCalled(ctx context.Context, name string) error {
	if name = strings.TrimSpace(name); name == "" || strings.ContainsAny(name, "\n\t/") {
		return fault.New(fault.Usage, "Give a name such as Imke.", "%q is no name for a person.", name)
	}
	if w.signed != "" {
		return fault.New(fault.Refused, "Sign in under the other name with oaken login.",
			"Your name is that of your account at the server: %s.",
			w.signed)
	}
	if w.Person != w.rec.Person {
		return fault.New(fault.Usage, "Leave --as out.", "The name is that of %s, who has this workspace.", w.rec.Person)
	}
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(locks, w.locking.Holds) {
		return fault.New(fault.Refused, "Give them back with oaken unlock first.", "%s holds locks here, which would be nobody's.",
			w.Person)
	}
	if len(w.unsent.Commits) > 0 {
		return w.stillHeld()
	}
	before := w.rec
	w.rec.Person = name
	w.rec.People = slices.DeleteFunc(slices.Clone(w.rec.People), func(p string) bool { return p == name })
	if err := w.save(); err != nil {
		w.rec = before
		return err
	}
	w.Person, w.registered = name, false
	w.Chest.Actor = w.actor()
	_, err = w.Chest.Register(ctx, w.presence())
	return err
}
