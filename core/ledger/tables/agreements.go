package tables

import "oakenchest/core/ledger"

// Approvals, bookings, and promotions that are being settled.

var approvals = &table[ledger.Assent]{name: "approvals", since: 5, follows: byMoment, bind: func(a *ledger.Assent) []column {
	return []column{serial("id", number(&a.ID)), col("environment", text(&a.Environment)), col("commit_id", id(&a.Commit)),
		col("person", text(&a.Person)),
		col("time", moment(&a.Time)), col("text", text(&a.Text)), col("withdrawn", flag(&a.Withdrawn)),
		col("plan", text(&a.Plan)).from(8), col("gate", text(&a.Gate)).from(8)}
}, indexes: []index{{name: "approvals_environment", on: "(environment, commit_id)", since: 5}}}

// settlement is the tree that an approval is for.
type settlement struct {
	approval int64
	tree     string
}

var approvedTrees = &table[settlement]{name: "approved_trees", since: 6, follows: byMoment, bind: func(s *settlement) []column {
	return []column{key("approval", number(&s.approval)), col("tree", text(&s.tree))}
}}

// AddAssent records what a person says; the last word counts.
func (tx *Tx) AddAssent(a ledger.Assent) error {
	id, err := insertCounted(tx, approvals, a)
	if err != nil || a.Tree == "" {
		return err
	}
	return insert(tx, approvedTrees, settlement{id, a.Tree})
}

// Assents answers ledger.Stages, as do the other questions here.
func (tx *Tx) Assents(environment string, commit ledger.ID) ([]ledger.Assent, error) {
	rows, err := list(tx, approvals, "where environment = ? and commit_id = ? order by id", environment, commit.String())
	if err != nil {
		return nil, err
	}
	trees, err := list(tx, approvedTrees, "where approval in (select id from approvals where environment = ? and commit_id = ?)",
		environment, commit.String())
	said := func(a ledger.Assent) [3]string { return [3]string{a.Person, a.Plan, a.Gate} }
	last := map[[3]string]int64{}
	for _, a := range rows {
		last[said(a)] = a.ID
	}
	var out []ledger.Assent
	for _, a := range rows {
		if last[said(a)] != a.ID || a.Withdrawn {
			continue
		}
		for _, t := range trees {
			if t.approval == a.ID {
				a.Tree = t.tree
			}
		}
		out = append(out, a)
	}
	return out, err
}

var bookings = &table[ledger.Booking]{name: "bookings", since: 5, follows: byMoment, bind: func(b *ledger.Booking) []column {
	return []column{serial("id", number(&b.ID)), col("environment", text(&b.Environment)), col("lane", text(&b.Lane)),
		col("person", text(&b.Person)),
		col("workspace", text(&b.Workspace)), col("asked", moment(&b.Asked)), col("begins", moment(&b.Begins)), col("ends",
			moment(&b.Ends)),
		col("lasts", span(&b.Lasts)), col("note", text(&b.Note)), col("ended", moment(&b.Ended))}
}, indexes: []index{{name: "bookings_environment", on: "(environment, id)", since: 5}}}

// AddBooking records a booking, and gives its number.
func (tx *Tx) AddBooking(b ledger.Booking) (id int64, err error) {
	return insertCounted(tx, bookings, b)
}

func (tx *Tx) Bookings() ([]ledger.Booking, error) { return list(tx, bookings, "order by id") }

// EndBooking records that a booking has ended; ErrNotFound when it is none that goes on.
func (tx *Tx) EndBooking(b ledger.Booking) error { return rewrite(tx, bookings, b, "ended = 0") }

// settling is a promotion that is being settled, with its number.
type settling struct {
	id int64
	ledger.Pending
}

var pending = &table[settling]{name: "pending", since: 6, follows: byMoment, bind: func(s *settling) []column {
	return []column{serial("id", number(&s.id)), col("origin", text(&s.Origin)), col("target", text(&s.Target)),
		col("chosen", text(&s.Chosen)),
		col("person", text(&s.Person)), col("time", moment(&s.Time))}
}, unique: "origin, target"}

// PutPending records that a promotion is being settled, in place of what was recorded of it.
func (tx *Tx) PutPending(s ledger.Pending) error {
	if err := missingIsFine(remove(tx, pending, "where origin = ? and target = ?", s.Origin, s.Target)); err != nil {
		return err
	}
	return insert(tx, pending, settling{Pending: s})
}

func (tx *Tx) PendingPromotions() ([]ledger.Pending, error) {
	rows, err := list(tx, pending, "order by time, id")
	out := make([]ledger.Pending, len(rows))
	for i, s := range rows {
		out[i] = s.Pending
	}
	return out, err
}

// choice is how a conflict was settled, with its number.
type choice struct {
	id int64
	ledger.Chosen
}

var choices = &table[choice]{name: "choices", since: 6, follows: byMoment, bind: func(c *choice) []column {
	return []column{serial("id", number(&c.id)), col("origin", text(&c.Origin)), col("target", text(&c.Target)),
		col("address", text(&c.Address)),
		col("sides", text(&c.Sides)), col("keep", text(&c.Keep)), col("sort", text(&c.Sort)), col("value", text(&c.Value)),
		col("person", text(&c.Person)), col("time", moment(&c.Time))}
}, unique: "origin, target, address"}

// PutChosen records how a conflict was settled; the last word counts.
func (tx *Tx) PutChosen(c ledger.Chosen) error {
	if err := missingIsFine(remove(tx, choices, "where origin = ? and target = ? and address = ?", c.Origin, c.Target,
		c.Address)); err != nil {
		return err
	}
	return insert(tx, choices, choice{Chosen: c})
}

func (tx *Tx) ChosenFor(origin, target string) ([]ledger.Chosen, error) {
	rows, err := list(tx, choices, "where origin = ? and target = ? order by id", origin, target)
	out := make([]ledger.Chosen, len(rows))
	for i, c := range rows {
		out[i] = c.Chosen
	}
	return out, err
}

// EndPending lets a promotion be settled no more, with all choices; ErrNotFound when there was none.
func (tx *Tx) EndPending(origin, target string) error {
	if err := missingIsFine(remove(tx, choices, "where origin = ? and target = ?", origin, target)); err != nil {
		return err
	}
	return remove(tx, pending, "where origin = ? and target = ?", origin, target)
}
