package chest

import (
	"context"
	"errors"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Park records work that is set aside; its contents must be committed before.
func (c *Chest) Park(ctx context.Context, p ledger.Parked) error {
	err := c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.AddParked(p) })
	if errors.Is(err, ledger.ErrTaken) {
		return fault.New(fault.Usage, "Choose another name.", "%s has set something aside as %s already.", p.Person, p.Name)
	}
	return Explain(err)
}

// Parked gives what a person has set aside under a name.
func (c *Chest) Parked(ctx context.Context, person, name string) (p ledger.Parked, ok bool, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { p, err = tx.Parked(person, name); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return p, false, nil
	}
	return p, err == nil, Explain(err)
}

// AllParked gives everything that is set aside.
func (c *Chest) AllParked(ctx context.Context) (out []ledger.Parked, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.AllParked(); return err })
	return out, Explain(err)
}

// Unpark takes the record of what was set aside away.
func (c *Chest) Unpark(ctx context.Context, person, name string) error {
	err := c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.RemoveParked(person, name) })
	if errors.Is(err, ledger.ErrNotFound) {
		return nil // another command was faster
	}
	return Explain(err)
}
