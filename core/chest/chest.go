// Package chest is the repository of one project, as everybody who works with it sees it: records, bytes, and
// what can be done to them.
//
// What stands behind it is a Store: reads of the records, acts, bytes and leases, and nothing else. Here lies
// what is built of these alone: folder trees (a Merkle tree of contents), states and their addresses, ancestry,
// locks that reach and meet, what environments hold. Bytes are durable before an act names them, so a process
// that is killed at any instant leaves a chest that opens, with everything that was acknowledged.
package chest

import (
	"context"
	"crypto/rand"
	"errors"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/trace"
)

// FirstBranch is the branch that a new chest has.
const FirstBranch = "main"

// Chest is an open repository.
type Chest struct {
	// Contents are its bytes.
	Contents *content.Store
	// Warden, when set, is asked before the first branch moves.
	Warden Warden
	// Actor is who acts.
	Actor Actor

	store  Store
	guided Guided // nil for a store that need not know
	trees  treeCache
	leases heldLeases
	sight  sight
}

// New makes a chest of what stands behind it.
func New(s Store) *Chest {
	c := &Chest{store: s, Contents: s.Contents()}
	c.guided, _ = s.(Guided)
	return c
}

// Place says for people where the chest is.
func (c *Chest) Place() string { return c.store.Place() }

// Attendant gives the server that keeps the chest, for what is done there; nil where a folder keeps it.
func (c *Chest) Attendant() Attendant {
	a, _ := c.store.(Attendant)
	return a
}

// Served reports whether a server keeps the chest.
func (c *Chest) Served() bool { return c.Attendant() != nil }

// Close lets go of the chest, and of every lease that is still held.
func (c *Chest) Close() error {
	c.leases.releaseAll()
	return c.store.Close()
}

// Signals gives a sign each time that something may have happened to the records, until ctx ends; nil where that has to be
// asked for.
func (c *Chest) Signals(ctx context.Context) <-chan struct{} {
	if s, ok := c.store.(Signaller); ok {
		return s.Signals(ctx)
	}
	return nil
}

// View lets fn ask the records, of one moment. fn must not act meanwhile.
func (c *Chest) View(ctx context.Context, fn func(ledger.Records) error) error {
	r, err := c.store.View(ctx)
	if err != nil {
		return err
	}
	defer r.Close()
	return fn(r)
}

// do carries an act out, on the grounds of all leases that are held. Where the chest was tidied after contents
// were stored, it makes sure that they are there, and asks again.
func (c *Chest) do(ctx context.Context, a Act) (Outcome, error) {
	return c.doOn(ctx, a, c.leases.grounds())
}

// doOn is do, on some grounds.
func (c *Chest) doOn(ctx context.Context, a Act, on Grounds) (Outcome, error) {
	const patience = 5
	for n := 0; ; n++ {
		r := Request{Key: rand.Text(), Actor: c.Actor, Act: a, On: on}
		end := trace.Begin(ctx, trace.Act, a.Verb()+" "+a.Subject())
		out, err := c.store.Do(ctx, r)
		end()
		c.sight.acted(out.Commits)
		if !refused(err, Tidied) || n == patience {
			return out, err
		}
		fence, err := c.standAgain(ctx, a)
		if err != nil {
			return out, err
		}
		on.Tidied = &fence
	}
}

// just is do, where nothing comes of an act but that it is done.
func (c *Chest) just(ctx context.Context, a Act) error {
	_, err := c.do(ctx, a)
	return Explain(err)
}

// Explain turns the errors of the floors below into errors for people.
func Explain(err error) error {
	var known *fault.Error
	var damage *content.DamageError
	var moved *ledger.MovedError
	var refusal *Refusal
	var uncertain *UncertainError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case errors.As(err, &refusal):
		return explainRefusal(refusal)
	case errors.As(err, &uncertain):
		return fault.New(fault.Unreachable, "When the server is back, see how it stands before you do it again.",
			"The server was asked, and no answer came: whether it was done is not known. %w.", uncertain.Err)
	case errors.As(err, &moved):
		return fault.New(fault.Unreachable,
			"Run the command again. If it is not found there, name the place as it is called here: oaken relocate LOCATION in a "+
				"workspace, else oaken open LOCATION.", "The chest was moved: %w.", err)
	case errors.As(err, &damage):
		return fault.New(fault.Damaged, "Bring that file back from a copy of the chest; everything else in it can still be read.",
			"Stored bytes are damaged: %w.", err)
	case errors.Is(err, content.ErrMissing):
		return fault.New(fault.Damaged,
			"A bale of the chest is missing, or its keys: oaken health --repair writes lost keys anew; bring a bale back from a copy.",
			"The chest should hold some content and does not: %w.", err)
	case errors.Is(err, content.ErrSwept):
		return explainRefusal(&Refusal{Reason: Tidied})
	case errors.Is(err, ledger.ErrNewer):
		return fault.New(fault.Unreachable, "Use a newer oaken.", "The chest's records can't be read by this program: %w.", err)
	case errors.Is(err, ledger.ErrDamaged):
		return fault.New(fault.Damaged, "Bring ledger.db back from a copy of the chest; oaken health says more.",
			"The chest's ledger.db can't be read: %w.", err)
	case errors.Is(err, ledger.ErrFull), errors.Is(err, content.ErrFull):
		return fault.New(fault.Unreachable, "Make room on the disk of the chest, and run the command again; nothing was recorded.",
			"The chest can't be written: %w.", err)
	case errors.Is(err, ledger.ErrReadOnly), errors.Is(err, content.ErrReadOnly):
		return fault.New(fault.Unreachable, "Check that you may write there, and run the command again.",
			"The chest can't be written: %w.", err)
	case errors.Is(err, ledger.ErrAway), errors.Is(err, content.ErrAway), errors.Is(err, content.ErrElsewhere):
		return fault.New(fault.Unreachable,
			"Check the connection to its place. Until it is back, oaken changes and oaken commit work here, and oaken sync publishes "+
				"afterwards.", "The chest is out of reach.")
	case errors.Is(err, ledger.ErrBusy):
		return fault.New(fault.Unreachable, "Try again in a moment.", "Another program is writing to the chest and did not finish in time.")
	}
	return err
}

// explainRefusal says for people why an act was refused.
func explainRefusal(r *Refusal) error {
	say := func(code fault.Code, hint, format string, args ...any) error {
		e := fault.New(code, hint, format, args...)
		e.Err = r
		return e
	}
	switch r.Reason {
	case BranchMoved:
		return say(fault.Refused, "Nothing was recorded. Bring them in with oaken sync, and commit again.",
			"Branch %s has newer commits than this workspace.", r.Subject)
	case RulesMoved:
		return say(fault.Refused, "See how it stands, and run the command again; nothing was recorded.",
			"Branch %s has new commits, and with them perhaps other rules.", r.Subject)
	case RecordMoved:
		return say(fault.Refused, "Capture it again: oaken capture "+fault.Word(r.Subject)+".",
			"Somebody has deployed to %s, or captured it, since this was read.", r.Subject)
	case LeaseLost:
		return say(fault.Refused, "See how it stands, and run the command again; nothing was recorded.",
			"This command stood still for so long that somebody else went on in its place (%s).", r.Subject)
	case Tidied:
		return say(fault.Refused, "Run the command again; nothing was recorded.", "The chest was tidied meanwhile.")
	case Locked:
		return say(fault.Refused, "Ask "+r.Lock.Holder+" to commit or to run oaken unlock "+fault.Word(r.Lock.Address)+".",
			"%s is locked by %s.", r.Lock.Address, HolderText(*r.Lock))
	case LockedElsewhere:
		return say(fault.Refused, "Commit there, or run oaken unlock "+fault.Word(r.Lock.Address)+" there.",
			"%s is locked by you, in another workspace: %s.", r.Lock.Address, HolderText(*r.Lock))
	case LockSilent:
		return say(fault.Refused, "Take it over with oaken lock --take-over, or ask "+r.Lock.Holder+".",
			"%s is locked by %s, whose workspace has given no sign of life since %s.", r.Lock.Address, HolderText(*r.Lock), clock(r.Seen))
	case NotHolder:
		return say(fault.Refused, "Only the holder gives a lock back, or oaken unlock --force with a reason.", "%s is locked by %s.",
			r.Lock.Address, HolderText(*r.Lock))
	case PartOfLock:
		return say(fault.Usage, "Name "+r.Lock.Address+" to end that lock, whole.", "%s is locked as a part of %s.", r.Subject,
			r.Lock.Address)
	case NotLocked:
		return say(fault.Usage, "oaken locks lists the locks.", "%s is not locked.", r.Subject)
	case NotSettling:
		return say(fault.Refused, "See how it stands: oaken promote "+fault.Word(r.Subject)+" "+fault.Word(r.Other)+" --dry-run.",
			"The promotion from %s to %s is not being settled any more.", r.Subject, r.Other)
	case Unsent:
		return say(fault.Damaged, "Run oaken health: this machine does not hold them either.",
			"The server lacks contents that this would name, %s among them.", r.Lacking[0].Short())
	case OtherRequest:
		return say(fault.Refused, "See how it stands, and run the command again.",
			"The server was asked for something else by the same key.")
	case BookingsMoved:
		return say(fault.Refused, "Look at the bookings, and run the command again.", "Somebody has booked %s at this moment.", r.Subject)
	case Taken:
		return say(fault.Refused, "Choose another name.", "There is a record of %s already.", r.Subject)
	case Unknown:
		return say(fault.Refused, "See how it stands, and run the command again.", "There is no %s any more.", r.Subject)
	}
	return say(fault.Refused, "Run the command again.", "The chest did not take this: %s.", r.Reason)
}
