package enact

import (
	"errors"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// publish records commits, and what belongs to them.
func publish(tx *tables.Tx, a chest.Publish) (out chest.Outcome, err error) {
	if d := a.Deployment; d != nil && d.Expect != nil {
		if err := recordStands(tx, *d); err != nil {
			return out, err
		}
	}
	if a.NewBranch != nil {
		if err := tx.AddBranch(*a.NewBranch); err != nil && (a.OwnName || !errors.Is(err, ledger.ErrTaken)) {
			return out, err
		}
	}
	var last ledger.ID
	for i, d := range a.Drafts {
		if i > 0 {
			d.Tip = last
		}
		c, err := commit(tx, d)
		if err != nil {
			return out, err
		}
		last, out.Commits = c.ID, append(out.Commits, c)
	}
	if err := takeBack(tx, a); err != nil {
		return out, err
	}
	if d := a.Deployment; d != nil {
		if len(a.Drafts) > 0 {
			d.Commit = last
		}
		last = d.Commit
		if out.Number, err = deployment(tx, *d); err != nil {
			return out, err
		}
	}
	for _, absence := range a.Absences {
		if err := tx.AddAbsence(absence); err != nil {
			return out, err
		}
	}
	if from, to := a.EndPending[0], a.EndPending[1]; to != "" {
		if err := perhaps(tx.EndPending(from, to)); err != nil {
			return out, err
		}
	}
	if a.Merge != nil {
		m := *a.Merge
		m.Merged = last
		c, err := commit(tx, m)
		if err != nil {
			return out, err
		}
		last, out.Commits = c.ID, append(out.Commits, c)
	}
	if a.Review != nil {
		r := *a.Review
		r.Outcome = last
		err = tx.CloseReview(r)
	}
	return out, err
}

// recordStands refuses a deployment when the environment's record is not the one that it was decided on.
func recordStands(tx *tables.Tx, d chest.Deploying) error {
	is, err := chest.LastDeployment(tx, d.Environment, d.Former)
	if err != nil && !errors.Is(err, ledger.ErrNotFound) {
		return err
	}
	if is.Number != *d.Expect {
		return &chest.Refusal{Reason: chest.RecordMoved, Subject: d.Environment}
	}
	return nil
}

// deployment records one, with all that is known of it.
func deployment(tx *tables.Tx, d chest.Deploying) (int64, error) {
	n, err := tx.AddDeployment(d.Deployment)
	if err != nil {
		return 0, err
	}
	for _, kept := range d.Kept {
		if kept != 0 {
			if err := tx.Number(kept, n); err != nil {
				return 0, err
			}
		}
	}
	for folder, rules := range d.Proofs {
		if err := tx.AddProof(n, folder, rules); err != nil {
			return 0, err
		}
	}
	if d.Account.Deployment = n; d.OwnSource {
		d.Account.Source = d.Commit
	}
	return n, tx.AddAccount(d.Account)
}

// takeBack notes deployments that were taken back.
func takeBack(tx *tables.Tx, a chest.Publish) error {
	for _, k := range a.Back {
		var err error
		if k.Deployment <= 0 {
			err = tx.Forget(k.ID)
		} else {
			err = tx.Undo(k.Environment, k.Deployment, a.BackBy)
		}
		if err != nil {
			return err
		}
	}
	if a.Aside == 0 {
		return nil
	}
	return tx.Number(a.Aside, ledger.Aside)
}

// commit records a commit and moves the branch to it.
func commit(tx *tables.Tx, d chest.Draft) (ledger.Commit, error) {
	c := ledger.Commit{Branch: d.Branch, Depth: 1, Generation: 1, Tree: d.Tree, Author: d.Author, Workspace: d.Workspace, Time: d.Time,
		Message: d.Message, Item: d.Item}
	for _, id := range []ledger.ID{d.Tip, d.Merged} {
		if id == (ledger.ID{}) {
			continue
		}
		p, err := tx.Commit(id)
		if err != nil {
			return c, err
		}
		if len(c.Parents) == 0 {
			c.Depth = p.Depth + 1
		}
		c.Parents = append(c.Parents, id)
		c.Generation = max(c.Generation, p.Generation+1)
	}
	c.Seal()
	if err := tx.MoveTip(d.Branch, d.Tip, c.ID); errors.Is(err, ledger.ErrMoved) {
		return c, &chest.Refusal{Reason: chest.BranchMoved, Subject: d.Branch}
	} else if err != nil {
		return c, err
	}
	if err := errors.Join(tx.AddCommit(c), tx.AddTouches(c.ID, d.Traces.Touches)); err != nil {
		return c, err
	}
	return c, noteWork(tx, d, c.ID)
}

// noteWork notes whose work a commit brings, what it takes back, and which locks end with it.
func noteWork(tx *tables.Tx, d chest.Draft, id ledger.ID) error {
	if d.Traces.Deed != "" {
		if err := tx.AddDeed(id, d.Traces.Deed); err != nil {
			return err
		}
	}
	if d.Picks != (ledger.ID{}) {
		if err := tx.AddPick(id, d.Picks); err != nil {
			return err
		}
	}
	for _, work := range d.Takes {
		if err := tx.AddTaking(id, work); err != nil {
			return err
		}
	}
	if d.Settled {
		if err := tx.AddSettled(id); err != nil {
			return err
		}
	}
	for _, address := range d.Release {
		if err := perhaps(tx.RemoveLock(address)); err != nil {
			return err
		}
	}
	return nil
}
