package chest

import (
	"context"
	"errors"
	"slices"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Settle records that a promotion is being settled.
func (c *Chest) Settle(ctx context.Context, s ledger.Pending) error {
	s.Origin, s.Target = c.RecordName(s.Origin), c.RecordName(s.Target)
	return c.just(ctx, Settle{s})
}

// PendingPromotions gives all promotions that are being settled, the oldest first.
func (c *Chest) PendingPromotions(ctx context.Context) (out []ledger.Pending, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.PendingPromotions(); return err })
	for i := range out {
		out[i].Origin, out[i].Target = c.plainName(out[i].Origin), c.plainName(out[i].Target)
	}
	return out, Explain(err)
}

// Choose records how conflicts of a promotion were settled, all or none. It is refused when
// nobody settles that promotion any more.
func (c *Chest) Choose(ctx context.Context, list []ledger.Chosen) error {
	list = slices.Clone(list)
	for i := range list {
		list[i].Origin, list[i].Target = c.RecordName(list[i].Origin), c.RecordName(list[i].Target)
	}
	_, err := c.do(ctx, Choose{list})
	if r, ok := asRefusal(err); ok {
		r.Subject, r.Other = c.plainName(r.Subject), c.plainName(r.Other)
	}
	return Explain(err)
}

// Chosen gives how conflicts of a promotion were settled so far.
func (c *Chest) Chosen(ctx context.Context, origin, target string) (out []ledger.Chosen, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		out, err = r.ChosenFor(c.RecordName(origin), c.RecordName(target))
		return err
	})
	return out, Explain(err)
}

// Unsettle gives the settling of a promotion up.
func (c *Chest) Unsettle(ctx context.Context, origin, target string) error {
	_, err := c.do(ctx, Unsettle{c.RecordName(origin), c.RecordName(target)})
	if errors.Is(err, ledger.ErrNotFound) {
		return fault.New(fault.Usage, "oaken pipeline show tells which are.", "The promotion from %s to %s is not being settled.",
			origin, target)
	}
	return Explain(err)
}
