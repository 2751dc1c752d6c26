// Package enact carries acts out on the records of a chest: each in one transaction, after everything that it
// was decided on was looked at again, together with its answer and its row in the trail.
package enact

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// Do carries a request out within a transaction, which the caller keeps, or not when there is an error; now is
// when the request was received.
func Do(tx *tables.Tx, r chest.Request, now time.Time) (chest.Outcome, error) {
	asked := r.Asked
	if asked == nil {
		asked = r.Act
	}
	name, err := nameOf(asked)
	if err != nil {
		return chest.Outcome{}, err
	}
	if r.Key != "" {
		said, err := tx.Answer(r.Key)
		switch {
		case err == nil:
			return again(said, name)
		case !errors.Is(err, ledger.ErrNotFound):
			return chest.Outcome{}, err
		}
	}
	if err := stands(tx, r.On); err != nil {
		return chest.Outcome{}, err
	}
	out, err := act(tx, r.Act)
	if err != nil {
		return chest.Outcome{}, refusal(err, r.Act)
	}
	if err := note(tx, r, now); err != nil {
		return chest.Outcome{}, err
	}
	if r.Key == "" {
		return out, nil
	}
	said, err := json.Marshal(out)
	if err != nil {
		return chest.Outcome{}, err
	}
	return out, tx.AddAnswer(tables.Answer{Key: r.Key, Act: name, Time: now, Said: string(said)}, now.Add(-chest.KeptAnswers))
}

// note puts an act into the trail. That a commit names somebody else as its author is a row of its own.
func note(tx *tables.Tx, r chest.Request, now time.Time) error {
	row := tables.Done{Verb: r.Act.Verb(), Subject: r.Act.Subject(), Person: r.Actor.Person, Workspace: r.Actor.Workspace, Time: now}
	if err := tx.AddDone(row); err != nil {
		return err
	}
	p, ok := r.Act.(chest.Publish)
	if !ok {
		return nil
	}
	for _, d := range p.Drafts {
		if d.Author == r.Actor.Person {
			continue
		}
		row.Verb, row.Subject = "attribute", d.Author
		if err := tx.AddDone(row); err != nil {
			return err
		}
	}
	return nil
}

// nameOf gives the digest of an act: SHA-256 of its verb and its JSON.
func nameOf(a chest.Act) (string, error) {
	data, err := json.Marshal(a)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(append([]byte(a.Verb()+"\n"), data...))
	return hex.EncodeToString(sum[:]), nil
}

// again gives the answer that was given before.
func again(said tables.Answer, name string) (out chest.Outcome, err error) {
	if said.Act != name {
		return out, &chest.Refusal{Reason: chest.OtherRequest}
	}
	err = json.Unmarshal([]byte(said.Said), &out)
	return out, err
}

// stands looks whether the grounds of an act still are what they were.
func stands(tx *tables.Tx, on chest.Grounds) error {
	for _, f := range on.Leases {
		l, err := tx.Lease(f.Lease)
		if err != nil {
			return err
		}
		if l.Fence != f.Number {
			return &chest.Refusal{Reason: chest.LeaseLost, Subject: f.Lease}
		}
	}
	if on.Rules != nil {
		b, err := tx.Branch(chest.FirstBranch)
		if err != nil {
			return err
		}
		if b.Tip != *on.Rules {
			return &chest.Refusal{Reason: chest.RulesMoved, Subject: b.Name}
		}
	}
	if on.Tidied == nil {
		return nil
	}
	l, err := tx.Lease(chest.TidyLease)
	if err == nil && l.Fence != *on.Tidied {
		return &chest.Refusal{Reason: chest.Tidied}
	}
	return err
}

// refusal says of what the records answer that the act can't be.
func refusal(err error, a chest.Act) error {
	var r *chest.Refusal
	switch {
	case errors.As(err, &r):
	case errors.Is(err, ledger.ErrTaken):
		return &chest.Refusal{Reason: chest.Taken, Subject: a.Subject()}
	case errors.Is(err, ledger.ErrNotFound):
		return &chest.Refusal{Reason: chest.Unknown, Subject: a.Subject()}
	}
	return err
}

// act does what one act says.
func act(tx *tables.Tx, a chest.Act) (out chest.Outcome, err error) {
	switch a := a.(type) {
	case chest.Publish:
		return publish(tx, a)
	case chest.TakeLocks:
		return takeLocks(tx, a)
	case chest.FreeLocks:
		return freeLocks(tx, a)
	case chest.MakeBranch:
		err = tx.AddBranch(a.Branch)
	case chest.NameRelease:
		err = tx.AddRelease(a.Release)
	case chest.Book:
		out.Number, err = book(tx, a)
	case chest.EndBooking:
		err = tx.EndBooking(a.Booking)
	case chest.Assent:
		err = tx.AddAssent(a.Assent)
	case chest.Park:
		err = tx.AddParked(a.Parked)
	case chest.Unpark:
		err = perhaps(tx.RemoveParked(a.Person, a.Name))
	case chest.OpenReview:
		out.Number, err = tx.AddReview(a.Review)
	case chest.Remark:
		if _, err = tx.Review(a.Remark.Review); err == nil {
			err = tx.AddRemark(a.Remark)
		}
	case chest.CloseReview:
		err = tx.CloseReview(a.Review)
	case chest.Keep:
		out.Number, err = tx.Keep(a.Kept)
	case chest.Forget:
		err = tx.Forget(a.Kept)
	case chest.Number:
		err = tx.Number(a.Kept, a.Deployment)
	case chest.Settle:
		err = tx.PutPending(a.Pending)
	case chest.Choose:
		err = choose(tx, a)
	case chest.Unsettle:
		err = tx.EndPending(a.Origin, a.Target)
	case chest.Plan:
		out.Number, err = tx.AddPlanned(a.Planned)
	case chest.EndPlanned:
		err = tx.EndPlanned(a.Planned)
	case chest.PlanRelease:
		if a.Bundle.ID == 0 {
			out.Number, err = tx.AddBundle(a.Bundle)
		} else {
			err = tx.PutBundle(a.Bundle)
		}
	case chest.NoteAfter:
		err = tx.NoteAfter(a.Deployment, a.After)
	case chest.RenameEnvironment:
		err = tx.RenameEnvironment(a.From, a.To)
	case chest.Distinguish:
		err = tx.AddDistinct(a.Distinct)
	case chest.Undistinguish:
		err = tx.RemoveDistinct(a.One, a.Other)
	case chest.NoteAttempt:
		err = tx.AddAttempt(a.Attempt)
	case chest.NoteLook:
		err = tx.PutLook(a.Look)
	case chest.Notify:
		err = tx.AddNotice(a.Notice)
	default:
		err = fmt.Errorf("nobody knows the act %T", a)
	}
	return out, err
}

// perhaps lets it pass that there was nothing to take away.
func perhaps(err error) error {
	if errors.Is(err, ledger.ErrNotFound) {
		return nil
	}
	return err
}

// book records a booking that was decided on with all others in view.
func book(tx *tables.Tx, a chest.Book) (int64, error) {
	all, err := tx.Bookings()
	if err != nil {
		return 0, err
	}
	if n := len(all); n > 0 && all[n-1].ID != a.Seen {
		return 0, &chest.Refusal{Reason: chest.BookingsMoved, Subject: a.Booking.Environment}
	}
	return tx.AddBooking(a.Booking)
}

// choose records how conflicts of promotions were settled that are still under way.
func choose(tx *tables.Tx, a chest.Choose) error {
	pending, err := tx.PendingPromotions()
	if err != nil {
		return err
	}
	under := map[[2]string]bool{}
	for _, s := range pending {
		under[[2]string{s.Origin, s.Target}] = true
	}
	for _, x := range a.Chosen {
		if !under[[2]string{x.Origin, x.Target}] {
			return &chest.Refusal{Reason: chest.NotSettling, Subject: x.Origin, Other: x.Target}
		}
		if err := tx.PutChosen(x); err != nil {
			return err
		}
	}
	return nil
}

// Step does one step with a lease.
func Step(tx *tables.Tx, s chest.LeaseStep) error {
	var err error
	switch s.Do {
	case chest.TakeLease:
		if err = tx.TakeLease(s.Seen, s.Take); errors.Is(err, ledger.ErrTaken) {
			return &chest.Refusal{Reason: chest.Taken, Subject: s.Seen.Name}
		}
		return err
	case chest.BeatLease:
		err = tx.BeatLease(s.Seen.Name, s.Seen.Owner)
	case chest.ProbeLease:
		return tx.ProbeLease()
	case chest.FreeLease:
		err = tx.FreeLease(s.Seen.Name, s.Seen.Owner)
	default:
		return fmt.Errorf("nobody knows the step %q with a lease", s.Do)
	}
	if errors.Is(err, ledger.ErrNotFound) {
		return &chest.Refusal{Reason: chest.LeaseLost, Subject: s.Seen.Name}
	}
	return err
}
