package chest

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"oakenchest/core/blob"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Conclusion is what a deployment leaves in the chest.
type Conclusion struct {
	// Drafts are commits to be published, each on the one before; all on one branch. Of
	// all but the first, Tip is not looked at.
	Drafts []Draft
	// Kept are the numbers of what was kept before, 0 among them for nothing.
	Kept []int64
	// Deployment is that of the last draft's commit when there are drafts.
	Deployment ledger.Deployment
	Account    ledger.Account
	// NewBranch, when it has a name, is made first. It may be a line (ledger.IsLine).
	NewBranch ledger.Branch
	// Proofs are the rules by which the environment was proven, by folder.
	Proofs map[string]string
	// Absences are the works that the environment has no more then.
	Absences []ledger.Absence
	// Expect, when set, is the number of the record that this was decided on, 0 for none: it is
	// refused when the environment's record has moved since.
	Expect *int64
	// Merge, when it has a branch, is published in the end, with the last draft's commit as
	// its second parent.
	Merge Draft
	// EndPending names the two environments of a promotion that is not to be settled any
	// more, if it was.
	EndPending [2]string
}

// Concluded are the commits that came of a Conclusion: the deployment's, and the merge's,
// which is the zero commit when there was none.
type Concluded struct{ Commit, Merge ledger.Commit }

// Conclude publishes commits and records their deployment, in one transaction: all or
// nothing. It wraps ledger.ErrMoved when a branch is not where it was.
func (c *Chest) Conclude(ctx context.Context, x Conclusion) (Concluded, error) {
	if err := errors.Join(c.Allowed(ctx, x.Drafts...), c.Allowed(ctx, x.Merge)); err != nil {
		return Concluded{}, err
	}
	touches, err := c.chainTouches(ctx, x.Drafts)
	if err != nil {
		return Concluded{}, Explain(err)
	}
	var merging traces
	if x.Merge.Branch != "" {
		if merging, err = c.touches(ctx, x.Merge, ledger.Commit{Tree: x.Drafts[len(x.Drafts)-1].Tree}); err != nil {
			return Concluded{}, Explain(err)
		}
	}
	var last, merged ledger.Commit
	branch := ""
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		if x.Expect != nil {
			d, err := c.lastDeployment(tx, x.Deployment.Environment)
			if err != nil && !errors.Is(err, ledger.ErrNotFound) {
				return err
			}
			if d.Number != *x.Expect {
				return fault.New(fault.Refused, "Capture it again: oaken capture "+fault.Word(x.Deployment.Environment)+".", "Somebody has deployed to %s, or captured it, since this was read.", x.Deployment.Environment)
			}
		}
		if x.NewBranch.Name != "" {
			if err := tx.AddBranch(x.NewBranch); err != nil && !errors.Is(err, ledger.ErrTaken) {
				return err
			}
		}
		for i, d := range x.Drafts {
			if i > 0 {
				d.Tip = last.ID
			}
			branch = d.Branch
			if last, err = publish(tx, d, touches[i]); err != nil {
				return err
			}
		}
		if len(x.Drafts) > 0 {
			x.Deployment.Commit = last.ID
		} else if last, err = tx.Commit(x.Deployment.Commit); err != nil {
			return err
		}
		x.Deployment.Environment = c.RecordName(x.Deployment.Environment)
		if err := tx.Finish(0, x.Deployment); err != nil {
			return err
		}
		if err := tx.NumberAll(x.Kept); err != nil {
			return err
		}
		for folder, rules := range x.Proofs {
			if err := tx.AddProof(folder, rules); err != nil {
				return err
			}
		}
		for _, a := range x.Absences {
			a.Environment = c.RecordName(a.Environment)
			if err := tx.AddAbsence(a); err != nil {
				return err
			}
		}
		if from, to := x.EndPending[0], x.EndPending[1]; to != "" {
			err := tx.EndPending(c.RecordName(from), c.RecordName(to))
			if err != nil && !errors.Is(err, ledger.ErrNotFound) {
				return err
			}
		}
		if err := tx.AddAccount(x.Account); err != nil || x.Merge.Branch == "" {
			return err
		}
		branch, x.Merge.Merged = x.Merge.Branch, last.ID
		merged, err = publish(tx, x.Merge, merging)
		return err
	})
	return Concluded{last, merged}, overtaken(branch, err)
}

// chainTouches tells what each of a row of drafts touches.
func (c *Chest) chainTouches(ctx context.Context, drafts []Draft) ([]traces, error) {
	out := make([]traces, len(drafts))
	for i, d := range drafts {
		var err error
		if i == 0 {
			out[i], err = c.touches(ctx, d)
		} else {
			out[i], err = c.tracesOf([]ledger.Commit{{Tree: drafts[i-1].Tree}}, d.Tree)
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Store keeps files in the chest as a tree, and gives its digest in hexadecimal.
func (c *Chest) Store(ctx context.Context, files []KeptFile) (string, error) {
	release, err := c.Hold(ctx, false)
	if err != nil {
		return "", err
	}
	defer release()
	tree, err := c.storeTree(files)
	return hex.EncodeToString(tree[:]), Explain(err)
}

// Stored reads files that Store has kept.
func (c *Chest) Stored(tree string) (map[string][]byte, error) {
	if tree == "" {
		return nil, nil
	}
	return c.KeptFiles(ledger.Kept{Environment: "a deployment", Tree: tree})
}

// Deployed is a deployment with everything that is known of it.
type Deployed struct {
	ledger.Deployment
	// Account is nil for one that an older program made.
	Account *ledger.Account
	// Undone is nil for one that was not taken back.
	Undone *ledger.Undone
	Commit ledger.Commit
}

// Deployments gives those into an environment, all for an empty name, the newest first.
func (c *Chest) Deployments(ctx context.Context, environment string) (out []Deployed, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		if environment != "" {
			environment = c.RecordName(environment)
		}
		list, err := tx.Deployments(environment)
		if err != nil {
			return err
		}
		accounts, err := tx.Accounts()
		if err != nil {
			return err
		}
		undone, err := tx.AllUndone()
		if err != nil {
			return err
		}
		for _, d := range list {
			d.Environment = c.plainName(d.Environment)
			x := Deployed{Deployment: d}
			if a, ok := accounts[d.Number]; ok {
				x.Account = &a
			}
			if u, ok := undone[d.Number]; ok {
				x.Undone = &u
			}
			if x.Commit, err = tx.Commit(d.Commit); err != nil {
				return err
			}
			out = append(out, x)
		}
		return nil
	})
	return out, Explain(err)
}

// Record is what the chest knows of what an environment holds: the commit that it was
// proven to hold last.
type Record struct {
	ledger.Deployment
	Commit ledger.Commit
	// Proofs are the rules by which that was proven, by folder; empty for a record of an
	// older program.
	Proofs map[string]string
}

// Record gives what an environment holds; ok is false when nothing is known.
func (c *Chest) Record(ctx context.Context, environment string) (r Record, ok bool, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		if r.Deployment, err = c.lastDeployment(tx, environment); err != nil {
			return err
		}
		if r.Commit, err = tx.Commit(r.Deployment.Commit); err == nil {
			r.Proofs, err = tx.Proofs(r.Number)
		}
		return err
	})
	if errors.Is(err, ledger.ErrNotFound) && r.Number == 0 {
		return r, false, nil
	}
	return r, err == nil, Explain(err)
}

// RenameEnvironment lets the records of an environment speak of it by another name.
func (c *Chest) RenameEnvironment(ctx context.Context, from, to string) error {
	recorded := c.RecordName(from)
	err := c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		return tx.RenameEnvironment(recorded, to+strings.TrimPrefix(recorded, from))
	})
	if errors.Is(err, ledger.ErrTaken) {
		return fault.New(fault.Refused, "Choose another name.", "There are records of an environment %s already.", to)
	}
	return Explain(err)
}

// Line gives the line on which what an environment holds beside all branches goes on from
// a commit: the one that the commit is the tip of, or a new one.
func (c *Chest) Line(ctx context.Context, environment string, from ledger.Commit) (b ledger.Branch, fresh bool, err error) {
	environment = c.RecordName(environment)
	var lines []ledger.Branch
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { lines, err = tx.Lines(environment); return err })
	for _, l := range lines {
		if l.Tip == from.ID && from.Depth > 0 {
			return l, false, Explain(err)
		}
	}
	return ledger.Branch{Name: fmt.Sprintf("%s%s/%d", ledger.LinePrefix, environment, len(lines)+1), Tip: from.ID, Origin: environment}, true, Explain(err)
}

// KeptSince gives what an environment held before each deployment that was not taken
// back, the newest first.
func (c *Chest) KeptSince(ctx context.Context, environment string) (out []ledger.Kept, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.KeptSince(c.RecordName(environment)); return err })
	return out, Explain(err)
}

// Assent records that a person wants a commit in an environment, or does no more.
func (c *Chest) Assent(ctx context.Context, a ledger.Assent) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.AddAssent(a) }))
}

// Assents gives who wants a commit in an environment.
func (c *Chest) Assents(ctx context.Context, environment string, commit ledger.ID) (out []ledger.Assent, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Assents(environment, commit); return err })
	return out, Explain(err)
}

// Bookings gives all bookings, in the order in which they were asked for.
func (c *Chest) Bookings(ctx context.Context) (out []ledger.Booking, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Bookings(); return err })
	return out, Explain(err)
}

// Book records a booking that check agrees to, given all others, and gives its number.
func (c *Chest) Book(ctx context.Context, b ledger.Booking, check func(others []ledger.Booking) error) (id int64, err error) {
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		all, err := tx.Bookings()
		if err != nil {
			return err
		}
		if err := check(all); err != nil {
			return err
		}
		id, err = tx.AddBooking(b)
		return err
	})
	return id, Explain(err)
}

// EndBooking ends a booking before its time.
func (c *Chest) EndBooking(ctx context.Context, b ledger.Booking, at time.Time) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.EndBooking(b, at) }))
}

// Looked records what somebody saw who compared an environment with what was deployed.
func (c *Chest) Looked(ctx context.Context, l ledger.Look) error {
	l.Environment = c.RecordName(l.Environment)
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.PutLook(l) }))
}

// Looks gives the newest look at each environment.
func (c *Chest) Looks(ctx context.Context) (out map[string]ledger.Look, err error) {
	var all map[string]ledger.Look
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { all, err = tx.Looks(); return err })
	out = make(map[string]ledger.Look, len(all))
	for name, l := range all {
		l.Environment = c.plainName(name)
		out[l.Environment] = l
	}
	return out, Explain(err)
}

// MarkDistinct records that two elements are different things.
func (c *Chest) MarkDistinct(ctx context.Context, d ledger.Distinct) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.AddDistinct(d) }))
}

// UnmarkDistinct takes that back.
func (c *Chest) UnmarkDistinct(ctx context.Context, one, other string) error {
	err := c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.RemoveDistinct(one, other) })
	if errors.Is(err, ledger.ErrNotFound) {
		return fault.New(fault.Usage, "oaken lookalikes --all lists what is marked.", "%s and %s are not marked as distinct.", one, other)
	}
	return Explain(err)
}

// Distincts gives all pairs that are marked so.
func (c *Chest) Distincts(ctx context.Context) (out []ledger.Distinct, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Distincts(); return err })
	return out, Explain(err)
}

// storeTree stores files in a batch of their own.
func (c *Chest) storeTree(files []KeptFile) (blob.Digest, error) {
	batch := c.Blobs.Begin()
	defer batch.Abandon()
	list := make([]File, 0, len(files))
	for _, f := range files {
		in, err := f.Open()
		if err != nil {
			return blob.Digest{}, err
		}
		d, size, err := batch.Put(in)
		if err = errors.Join(err, in.Close()); err != nil {
			return blob.Digest{}, err
		}
		list = append(list, File{Path: f.Name, Mode: Plain, Size: size, Digest: d})
	}
	tree, err := c.WriteTree(batch, list)
	if err == nil {
		err = batch.Commit()
	}
	return tree, err
}

// Attempted notes something that somebody tried to do to an environment.
func (c *Chest) Attempted(ctx context.Context, a ledger.Attempt) error {
	a.Environment = c.RecordName(a.Environment)
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.AddAttempt(a) }))
}

// Attempts gives those at an environment, all for an empty name, the newest first.
func (c *Chest) Attempts(ctx context.Context, environment string) (out []ledger.Attempt, err error) {
	if environment != "" {
		environment = c.RecordName(environment)
	}
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Attempts(environment); return err })
	for i := range out {
		out[i].Environment = c.plainName(out[i].Environment)
	}
	return out, Explain(err)
}
