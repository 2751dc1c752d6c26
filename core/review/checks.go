package review

import (
	"context"
	"os"

	"oakenchest/core/check"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/trust"
)

// checks runs the commands that must pass, in a folder with what the merge comes to. What
// each said is kept with the review.
func (d *Desk) checks(ctx context.Context, r *Review, list []manifest.ReviewCheck, s state.State, progress func(string)) error {
	if len(list) == 0 {
		return nil
	}
	for _, c := range list {
		if d.Trust == nil {
			break
		}
		if err := d.Trust.Allow(ctx, trust.Command(trust.Check, c.Name, c.Command)); err != nil {
			return err
		}
	}
	dir, err := os.MkdirTemp("", "oaken-check-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := d.Project.LayOut(ctx, s, dir); err != nil {
		return err
	}
	for _, c := range list {
		if progress != nil {
			progress(c.Name)
		}
		output, failed := check.Run(ctx, c.Command, c.Time(), dir)
		kind := ledger.RemarkKind("check:" + c.Name)
		if failed != nil {
			kind = ledger.RemarkKind("failed:" + c.Name)
		}
		if err := d.Project.Chest.AddRemark(ctx, ledger.Remark{Review: r.Number, Kind: kind, Tip: r.Tip.ID, Author: d.Project.Person,
			Time: d.now(), Text: output}); err != nil {
			return err
		}
		if failed != nil {
			return fault.New(fault.Refused, "Its output is kept: oaken review show tells it.", "The check %s did not pass (%w): %s", c.Name,
				failed, check.LastLine(output))
		}
	}
	return nil
}
