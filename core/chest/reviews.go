package chest

import (
	"context"
	"errors"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// AddReview records a review and gives its number.
func (c *Chest) AddReview(ctx context.Context, r ledger.Review) (n int64, err error) {
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error { n, err = tx.AddReview(r); return err })
	return n, Explain(err)
}

// Review gives a review, and what was said in it.
func (c *Chest) Review(ctx context.Context, number int64) (r ledger.Review, said []ledger.Remark, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		if r, err = tx.Review(number); err != nil {
			return err
		}
		said, err = tx.Remarks(number)
		return err
	})
	if errors.Is(err, ledger.ErrNotFound) {
		err = fault.New(fault.Usage, "oaken review list shows the reviews.", "There is no review %d.", number)
	}
	return r, said, Explain(err)
}

// Reviews gives all reviews, the newest first.
func (c *Chest) Reviews(ctx context.Context) (out []ledger.Review, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Reviews(); return err })
	return out, Explain(err)
}

// AddRemark records what somebody said.
func (c *Chest) AddRemark(ctx context.Context, r ledger.Remark) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.AddRemark(r) }))
}

// CloseReview records how a review ended.
func (c *Chest) CloseReview(ctx context.Context, r ledger.Review) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.CloseReview(r) }))
}
