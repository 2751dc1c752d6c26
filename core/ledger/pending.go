package ledger

import "time"

// Pending is a promotion whose conflicts people settle before it is carried out.
type Pending struct {
	// Origin and Target are the environments that it leads from and to.
	Origin, Target string
	// Chosen says in the words of the program what of the work was chosen.
	Chosen string
	Person string
	Time   time.Time
}

// Chosen is how somebody settled one conflict of a promotion.
type Chosen struct {
	Origin, Target string
	Address        string
	// Sides is a digest of what stood against each other: of other sides it says nothing.
	Sides             string
	Keep, Sort, Value string
	Person            string
	Time              time.Time
}

// PutPending records that a promotion is being settled, in place of what was recorded of it.
func (tx *Tx) PutPending(s Pending) error {
	if _, err := tx.tx.ExecContext(tx.ctx, "delete from pending where origin = ? and target = ?", s.Origin, s.Target); err != nil {
		return err
	}
	return tx.insert("pending", s.Origin, s.Target, s.Chosen, s.Person, s.Time.UnixMilli())
}

// PendingPromotions gives all promotions that are being settled, the oldest first.
func (tx *Tx) PendingPromotions() ([]Pending, error) {
	return rows(tx, func(scan func(...any) error) (s Pending, err error) {
		var ms int64
		err = scan(&s.Origin, &s.Target, &s.Chosen, &s.Person, &ms)
		s.Time = time.UnixMilli(ms).UTC()
		return s, err
	}, "select origin, target, chosen, person, time from pending order by time, id")
}

// PutChosen records how a conflict was settled; the last word counts.
func (tx *Tx) PutChosen(c Chosen) error {
	if _, err := tx.tx.ExecContext(tx.ctx, "delete from choices where origin = ? and target = ? and address = ?", c.Origin, c.Target, c.Address); err != nil {
		return err
	}
	return tx.insert("choices", c.Origin, c.Target, c.Address, c.Sides, c.Keep, c.Sort, c.Value, c.Person, c.Time.UnixMilli())
}

// ChosenFor gives how conflicts of a promotion were settled, the first one first.
func (tx *Tx) ChosenFor(origin, target string) ([]Chosen, error) {
	return rows(tx, func(scan func(...any) error) (c Chosen, err error) {
		var ms int64
		err = scan(&c.Origin, &c.Target, &c.Address, &c.Sides, &c.Keep, &c.Sort, &c.Value, &c.Person, &ms)
		c.Time = time.UnixMilli(ms).UTC()
		return c, err
	}, "select origin, target, address, sides, keep, sort, value, person, time from choices where origin = ? and target = ? order by id", origin, target)
}

// EndPending lets a promotion be settled no more, with all choices; ErrNotFound when
// there was none.
func (tx *Tx) EndPending(origin, target string) error {
	if _, err := tx.tx.ExecContext(tx.ctx, "delete from choices where origin = ? and target = ?", origin, target); err != nil {
		return err
	}
	return tx.remove("delete from pending where origin = ? and target = ?", origin, target)
}
