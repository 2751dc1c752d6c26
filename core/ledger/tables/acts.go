package tables

import (
	"errors"
	"time"

	"oakenchest/core/ledger"
)

// Leases, answers that may be asked for again, and the trail of acts.

var leases = &table[ledger.Lease]{name: "leases", since: 7, unguarded: true, follows: byMoment, bind: func(l *ledger.Lease) []column {
	return []column{key("name", text(&l.Name)), col("owner", text(&l.Owner)), col("fence", number(&l.Fence)), col("beat", number(&l.Beat)),
		col("person", text(&l.Person)), col("workspace", text(&l.Workspace)), col("since", moment(&l.Since))}
}}

// Leases gives all leases, by name.
func (tx *Tx) Leases() ([]ledger.Lease, error) {
	return list(tx, leases, "where name <> '' order by name")
}

// Lease gives one lease; one that nobody ever held has the fence 0.
func (tx *Tx) Lease(name string) (ledger.Lease, error) {
	rows, err := list(tx, leases, "where name = ?", name)
	if err != nil || len(rows) == 0 {
		return ledger.Lease{Name: name}, err
	}
	return rows[0], nil
}

// TakeLease writes a lease in place of one that was seen; ErrTaken when it is not as it was seen any more.
func (tx *Tx) TakeLease(seen, l ledger.Lease) error {
	err := rewrite(tx, leases, l, "owner = ? and fence = ? and beat = ?", seen.Owner, seen.Fence, seen.Beat)
	if errors.Is(err, ledger.ErrNotFound) && seen.Fence == 0 {
		return insert(tx, leases, l)
	}
	if errors.Is(err, ledger.ErrNotFound) {
		return ledger.ErrTaken
	}
	return err
}

// BeatLease renews a lease; ErrNotFound when it is somebody else's now.
func (tx *Tx) BeatLease(name, owner string) error {
	return tx.changeLease("beat = beat + 1", "name = ? and owner = ?", name, owner)
}

// ProbeLease writes a lease of no name, that nobody takes.
func (tx *Tx) ProbeLease() error {
	err := tx.changeLease("beat = beat + 1", "name = ''")
	if errors.Is(err, ledger.ErrNotFound) {
		return insert(tx, leases, ledger.Lease{})
	}
	return err
}

// FreeLease gives a lease back; its fence stays.
func (tx *Tx) FreeLease(name, owner string) error {
	return tx.changeLease("owner = ''", "name = ? and owner = ?", name, owner)
}

// changeLease changes leases where a condition holds; ErrNotFound when it does of none.
func (tx *Tx) changeLease(set, where string, args ...any) error {
	at, err := tx.moment()
	if err != nil {
		return err
	}
	return tx.change("update leases set "+set+", at = ? where "+where, append([]any{at}, args...)...)
}

// Answer is what an act came to, for who asks again by the same key.
type Answer struct {
	Key string
	// Act is a digest of what was asked for.
	Act  string
	Time time.Time
	// Said is the outcome.
	Said string
}

var answers = &table[Answer]{name: "answers", since: 7, bind: func(a *Answer) []column {
	return []column{key("name", text(&a.Key)), col("act", text(&a.Act)), col("time", moment(&a.Time)), col("said", text(&a.Said))}
}, indexes: []index{{name: "answers_time", on: "(time)", since: 7}}}

// Answer gives what an act of a key came to, or ErrNotFound.
func (tx *Tx) Answer(key string) (Answer, error) { return one(tx, answers, "where name = ?", key) }

// AddAnswer keeps what an act came to, and lets go of those before a time.
func (tx *Tx) AddAnswer(a Answer, before time.Time) error {
	if _, err := tx.exec("delete from answers where time < ?", before.UnixMilli()); err != nil {
		return err
	}
	return insert(tx, answers, a)
}

// Done is one act of the trail.
type Done struct {
	ID int64
	// Verb says what was done, Subject to what.
	Verb, Subject     string
	Person, Workspace string
	// Time is when the act was received.
	Time time.Time
}

var trail = &table[Done]{name: "trail", since: 7, bind: func(d *Done) []column {
	return []column{serial("id", number(&d.ID)), col("verb", text(&d.Verb)), col("subject", text(&d.Subject)),
		col("person", text(&d.Person)),
		col("workspace", text(&d.Workspace)), col("time", moment(&d.Time))}
}}

// AddDone notes an act in the trail.
func (tx *Tx) AddDone(d Done) error { return insert(tx, trail, d) }

// Trail gives all acts, the oldest first.
func (tx *Tx) Trail() ([]Done, error) { return list(tx, trail, "order by id") }
