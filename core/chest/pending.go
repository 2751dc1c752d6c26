package chest

import (
	"context"
	"errors"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Settle records that a promotion is being settled.
func (c *Chest) Settle(ctx context.Context, s ledger.Pending) error {
	s.Origin, s.Target = c.RecordName(s.Origin), c.RecordName(s.Target)
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.PutPending(s) }))
}

// PendingPromotions gives all promotions that are being settled, the oldest first.
func (c *Chest) PendingPromotions(ctx context.Context) (out []ledger.Pending, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.PendingPromotions(); return err })
	for i := range out {
		out[i].Origin, out[i].Target = c.plainName(out[i].Origin), c.plainName(out[i].Target)
	}
	return out, Explain(err)
}

// Choose records how conflicts of a promotion were settled, all or none. It is refused when
// nobody settles that promotion any more.
func (c *Chest) Choose(ctx context.Context, list []ledger.Chosen) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		all, err := tx.PendingPromotions()
		if err != nil {
			return err
		}
		under := map[[2]string]bool{}
		for _, s := range all {
			under[[2]string{s.Origin, s.Target}] = true
		}
		for _, x := range list {
			from, to := x.Origin, x.Target
			x.Origin, x.Target = c.RecordName(from), c.RecordName(to)
			if !under[[2]string{x.Origin, x.Target}] {
				return fault.New(fault.Refused, "See how it stands: oaken promote "+fault.Word(from)+" "+fault.Word(to)+" --dry-run.", "The promotion from %s to %s is not being settled any more.", from, to)
			}
			if err := tx.PutChosen(x); err != nil {
				return err
			}
		}
		return nil
	}))
}

// Chosen gives how conflicts of a promotion were settled so far.
func (c *Chest) Chosen(ctx context.Context, origin, target string) (out []ledger.Chosen, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		out, err = tx.ChosenFor(c.RecordName(origin), c.RecordName(target))
		return err
	})
	return out, Explain(err)
}

// Unsettle gives the settling of a promotion up.
func (c *Chest) Unsettle(ctx context.Context, origin, target string) error {
	err := c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		return tx.EndPending(c.RecordName(origin), c.RecordName(target))
	})
	if errors.Is(err, ledger.ErrNotFound) {
		return fault.New(fault.Usage, "oaken pipeline show tells which are.", "The promotion from %s to %s is not being settled.", origin, target)
	}
	return Explain(err)
}
