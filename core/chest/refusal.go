package chest

import (
	"errors"
	"fmt"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Reason says why an act was refused, for programs.
type Reason string

// The reasons.
const (
	// BranchMoved: Branch is not where the act was decided.
	BranchMoved Reason = "branch-moved"
	// RulesMoved: the first branch has moved since its rules were read.
	RulesMoved Reason = "rules-moved"
	// RecordMoved: somebody has deployed to, or captured, Subject since.
	RecordMoved Reason = "record-moved"
	// LeaseLost: the act was decided under a lease, Subject, that somebody else took over.
	LeaseLost Reason = "lease-lost"
	// Tidied: the chest was tidied after the act's contents were stored.
	Tidied Reason = "tidied"
	// Taken: there is a record of that name, Subject.
	Taken Reason = "taken"
	// Locked: Lock is in the way, of somebody else; LockedElsewhere: of the same person in another workspace;
	// LockSilent: of a workspace that is silent since Lock.Since, and could be taken over.
	Locked          Reason = "locked"
	LockedElsewhere Reason = "locked-elsewhere"
	LockSilent      Reason = "lock-silent"
	// NotLocked: Subject is not locked; PartOfLock: it is a part of what Lock locks. NotHolder: Lock is
	// somebody else's to give back.
	NotLocked  Reason = "not-locked"
	PartOfLock Reason = "part-of-lock"
	NotHolder  Reason = "not-holder"
	// Unknown: there is no record like Subject any more.
	Unknown Reason = "unknown"
	// NotSettling: nobody settles the promotion from Subject to Other any more.
	NotSettling Reason = "not-settling"
	// BookingsMoved: somebody has booked since.
	BookingsMoved Reason = "bookings-moved"
	// OtherRequest: the key was used for something else.
	OtherRequest Reason = "other-request"
	// Unsent: the act names contents, Lacking among them, that who acts neither sent nor may see where it was made from.
	Unsent Reason = "unsent"
)

// Refusal says that an act was not carried out, and nothing changed.
type Refusal struct {
	Reason         Reason
	Subject, Other string
	Lock           *ledger.Lock
	// Seen is when the workspace of Lock was last at work.
	Seen time.Time
	// Lacking are contents that have to be sent first.
	Lacking []content.Digest `json:",omitempty"`
}

// Error is for programmers; people are told by Explain.
func (r *Refusal) Error() string { return fmt.Sprintf("refused: %s %s", r.Reason, r.Subject) }

// Is lets errors.Is find what callers ask for.
func (r *Refusal) Is(target error) bool {
	switch target {
	case ledger.ErrMoved:
		return r.Reason == BranchMoved
	case ledger.ErrTaken:
		return r.Reason == Taken
	case ledger.ErrNotFound:
		return r.Reason == Unknown
	}
	return false
}

// refused reports whether an error is a refusal for a reason.
func refused(err error, reason Reason) bool {
	r, ok := asRefusal(err)
	return ok && r.Reason == reason
}

func asRefusal(err error) (*Refusal, bool) {
	var r *Refusal
	ok := errors.As(err, &r)
	return r, ok
}

// LockInTheWay refuses to touch what somebody else has locked; hint says what to do about it.
func LockInTheWay(l ledger.Lock, what, hint string) error {
	e := fault.New(fault.Refused, hint, "%s is locked by %s.", what, HolderText(l))
	e.Err = &Refusal{Reason: Locked, Subject: what, Lock: &l}
	return e
}
