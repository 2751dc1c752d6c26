package chest

import (
	"context"
	"errors"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Park records work that is set aside; its contents must be committed before.
func (c *Chest) Park(ctx context.Context, p ledger.Parked) error {
	_, err := c.do(ctx, Park{p})
	if errors.Is(err, ledger.ErrTaken) {
		return fault.New(fault.Usage, "Choose another name.", "%s has set something aside as %s already.", p.Person, p.Name)
	}
	return Explain(err)
}

// Parked gives what a person has set aside under a name.
func (c *Chest) Parked(ctx context.Context, person, name string) (p ledger.Parked, ok bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error { p, err = r.Parked(person, name); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return p, false, nil
	}
	return p, err == nil, Explain(err)
}

// AllParked gives everything that is set aside.
func (c *Chest) AllParked(ctx context.Context) (out []ledger.Parked, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.AllParked(); return err })
	return out, Explain(err)
}

// Unpark takes the record of what was set aside away.
func (c *Chest) Unpark(ctx context.Context, person, name string) error {
	return c.just(ctx, Unpark{person, name})
}
