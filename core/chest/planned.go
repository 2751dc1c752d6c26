package chest

import (
	"context"
	"errors"

	"oakenchest/core/ledger"
)

// Plan records a promotion that is to come, and gives its number.
func (c *Chest) Plan(ctx context.Context, p ledger.Planned) (int64, error) {
	out, err := c.do(ctx, Plan{p})
	return out.Number, Explain(err)
}

// EndPlanned records what became of a planned promotion; ErrNotFound when that is known already.
func (c *Chest) EndPlanned(ctx context.Context, p ledger.Planned) error {
	return c.just(ctx, EndPlanned{p})
}

// Planned gives all promotions that were planned, by when they are due.
func (c *Chest) Planned(ctx context.Context) (out []ledger.Planned, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Planned(); return err })
	return out, Explain(err)
}

// PlanRelease records a planned release, or what becomes of it.
func (c *Chest) PlanRelease(ctx context.Context, b ledger.Bundle) error {
	return c.just(ctx, PlanRelease{b})
}

// Bundles gives all releases that were planned, the first one first.
func (c *Chest) Bundles(ctx context.Context) (out []ledger.Bundle, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Bundles(); return err })
	return out, Explain(err)
}

// Account gives what is known of one deployment; false for nothing.
func (c *Chest) Account(ctx context.Context, deployment int64) (a ledger.Account, ok bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error { a, err = r.Account(deployment); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return a, false, nil
	}
	return a, err == nil, Explain(err)
}

// NoteAfter notes what was run after a deployment.
func (c *Chest) NoteAfter(ctx context.Context, environment string, deployment int64, after string) error {
	return c.just(ctx, NoteAfter{Deployment: deployment, Environment: c.RecordName(environment), After: after})
}
