package chest

import (
	"context"
	"errors"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// AddReview records a review and gives its number.
func (c *Chest) AddReview(ctx context.Context, r ledger.Review) (n int64, err error) {
	out, err := c.do(ctx, OpenReview{r})
	return out.Number, Explain(err)
}

// Review gives a review, and what was said in it.
func (c *Chest) Review(ctx context.Context, number int64) (found ledger.Review, said []ledger.Remark, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		if found, err = r.Review(number); err != nil {
			return err
		}
		said, err = r.Remarks(number)
		return err
	})
	if errors.Is(err, ledger.ErrNotFound) {
		err = fault.New(fault.Usage, "oaken review list shows the reviews.", "There is no review %d.", number)
	}
	return found, said, Explain(err)
}

// Reviews gives all reviews, the newest first.
func (c *Chest) Reviews(ctx context.Context) (out []ledger.Review, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Reviews(); return err })
	return out, Explain(err)
}

// AddRemark records what somebody said.
func (c *Chest) AddRemark(ctx context.Context, r ledger.Remark) error {
	return c.just(ctx, Remark{r})
}

// CloseReview records how a review ended.
func (c *Chest) CloseReview(ctx context.Context, r ledger.Review) error {
	return c.just(ctx, CloseReview{r})
}
