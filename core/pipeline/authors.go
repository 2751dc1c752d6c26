package pipeline

import (
	"context"
	"maps"
	"slices"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Attribution says who is behind a change of an object in an environment.
type Attribution struct {
	// Address is the object's, with the environment's folder.
	Address string
	// Login is the one that changed it last, Program what that used and At when, as the
	// environment's log tells; empty without a log.
	Login, Program string
	At             time.Time
	// Holder has the object locked, in Workspace; empty for nobody.
	Holder, Workspace string
	// Mine says that the change counts as this person's: locked by them, or logged for
	// their login and locked by nobody else.
	Mine bool
}

// traces are what tells who changed something.
type traces struct {
	authors []environment.Author
	self    string // the login that this person has
	locks   []ledger.Lock
}

func (m *Mover) traces(ctx context.Context, d environment.Driver) (t traces, err error) {
	if t.locks, err = m.Project.Chest.Locks(ctx); err != nil {
		return t, err
	}
	if l, ok := d.(environment.Logger); ok {
		t.authors, t.self, err = l.Authors(ctx)
	}
	if m.At != nil { // the server's login is everybody's
		t.self = ""
	}
	return t, err
}

// attribute tells who changed the objects in which two folders differ.
func (m *Mover) attribute(f folder, t traces, a, b *contents) map[string]Attribution {
	out := map[string]Attribution{}
	for _, name := range differing(a, b) {
		o, ok := b.objects[name]
		if !ok {
			o = a.objects[name]
		}
		at := Attribution{Address: f.address(o)}
		for _, x := range t.authors {
			if changedBy(x, o) || changedBy(x, a.objects[name]) {
				at.Login, at.Program, at.At = x.Login, x.Program, x.At
				break
			}
		}
		at.Mine = at.Login != "" && at.Login == t.self
		if l, held := holder(t.locks, at.Address); held {
			at.Holder, at.Workspace = l.Holder, l.Workspace
			at.Mine = l.Holder == m.Project.Person && l.Workspace == m.Project.Name
		}
		out[name] = at
	}
	return out
}

// known lists those of whom something is known, by address.
func known(by map[string]Attribution) []Attribution {
	var out []Attribution
	for _, name := range slices.Sorted(maps.Keys(by)) {
		if a := by[name]; a.Login != "" || a.Holder != "" {
			out = append(out, a)
		}
	}
	return out
}

// behind tells who is behind the differences of two folders, as far as anything tells.
func (m *Mover) behind(ctx context.Context, f folder, d environment.Driver, own, other environment.Files) ([]Attribution, error) {
	t, err := m.traces(ctx, d)
	if err != nil || len(t.authors)+len(t.locks) == 0 {
		return nil, err
	}
	a, err := f.read(own)
	if err != nil {
		return nil, nil // what can't be read is replaced whole
	}
	b, err := f.read(other)
	if err != nil {
		return nil, err
	}
	return known(m.attribute(f, t, a, b)), nil
}

func changedBy(x environment.Author, o object) bool {
	if o.e == nil {
		return false
	}
	schema := ""
	if len(o.steps) > 1 {
		schema = o.steps[0].Key
	}
	if o.e.Type == "rows" {
		return false // the log is one of structure
	}
	return x.Changed(schema, o.e)
}

func holder(locks []ledger.Lock, address string) (ledger.Lock, bool) {
	for _, l := range locks {
		if chest.Covers(l.Address, address) {
			return l, true
		}
	}
	return ledger.Lock{}, false
}

// mine gives the files in which only this person's changes have come: own with the
// objects that other has otherwise and that are theirs. All differences are told too.
func (m *Mover) mine(ctx context.Context, f folder, d environment.Driver, own, other environment.Files) (environment.Files,
	map[string]Attribution, error) {
	a, err := f.read(own)
	if err != nil {
		return nil, nil, err
	}
	b, err := f.read(other)
	if err != nil {
		return nil, nil, err
	}
	t, err := m.traces(ctx, d)
	if err != nil {
		return nil, nil, err
	}
	by := m.attribute(f, t, a, b)
	files, err := f.mix(a, b, func(name string) bool { return by[name].Mine })
	if err != nil {
		return nil, nil, fault.New(fault.Refused, "Lock what belongs together, or take everything; nothing was changed.",
			"Your changes alone can't be told apart: %w.", err)
	}
	return files, by, nil
}

// PrepareLog sets up the log of who changes what in an environment, or takes it away;
// done says that there was nothing to do.
func (m *Mover) PrepareLog(ctx context.Context, name string, remove bool) (done bool, err error) {
	if m.elsewhere(ctx, name) {
		return m.prepareLogThere(ctx, name, remove)
	}
	env, d, err := m.open(ctx, name)
	if err != nil {
		return false, err
	}
	defer d.Close()
	l, ok := d.(environment.Logger)
	if !ok {
		return false, fault.New(fault.Refused, "Lock objects before you change them; capture tells who holds the lock.",
			"%s can't keep a log of changes; only PostgreSQL can.", env.Name)
	}
	if remove {
		return l.Unprepare(ctx)
	}
	return l.Prepare(ctx)
}
