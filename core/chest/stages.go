package chest

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"oakenchest/core/content"
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
	// NewBranch, when it has a name, is made first. It may be a line (ledger.IsLine). OwnName says that there
	// must be none of that name yet.
	NewBranch ledger.Branch
	OwnName   bool
	// OwnSource says that the account's source is the commit that is deployed.
	OwnSource bool
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
type Concluded struct {
	Commit, Merge ledger.Commit
	// Number is that of the deployment.
	Number int64
}

// Conclude publishes commits and records their deployment, in one transaction: all or
// nothing. It wraps ledger.ErrMoved when a branch is not where it was.
func (c *Chest) Conclude(ctx context.Context, x Conclusion) (Concluded, error) {
	d := &Deploying{Deployment: x.Deployment, Account: x.Account, Kept: x.Kept, Proofs: x.Proofs, Expect: x.Expect, OwnSource: x.OwnSource}
	if d.Environment = c.RecordName(x.Deployment.Environment); d.Environment != x.Deployment.Environment {
		d.Former = x.Deployment.Environment
	}
	a := Publish{Drafts: x.Drafts, Deployment: d, Absences: c.recorded(x.Absences)}
	if x.NewBranch.Name != "" {
		a.NewBranch, a.OwnName = &x.NewBranch, x.OwnName
	}
	if x.EndPending[1] != "" {
		a.EndPending = [2]string{c.RecordName(x.EndPending[0]), c.RecordName(x.EndPending[1])}
	}
	if x.Merge.Branch != "" {
		a.Merge = &x.Merge
	}
	out, err := c.publish(ctx, a)
	if refused(err, Taken) {
		err = branchTaken(x.NewBranch.Name)
	}
	if err != nil {
		return Concluded{}, err
	}
	done := Concluded{Number: out.Number}
	if n := len(x.Drafts); n > 0 {
		done.Commit = out.Commits[n-1]
	} else if done.Commit, err = c.Commit(ctx, x.Deployment.Commit); err != nil {
		return done, err
	}
	if a.Merge != nil {
		done.Merge = out.Commits[len(out.Commits)-1]
	}
	return done, nil
}

// Store keeps files in the chest as a tree, and gives its digest in hexadecimal.
func (c *Chest) Store(ctx context.Context, files []KeptFile) (string, error) {
	release, err := c.Hold(ctx)
	if err != nil {
		return "", err
	}
	defer release()
	tree, err := c.storeTree(ctx, files)
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
	err = c.View(ctx, func(r ledger.Records) error {
		if environment != "" {
			environment = c.RecordName(environment)
		}
		list, err := r.Deployments(environment)
		if err != nil {
			return err
		}
		accounts, err := r.Accounts()
		if err != nil {
			return err
		}
		undone, err := r.AllUndone()
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
			if x.Commit, err = r.Commit(d.Commit); err != nil {
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
func (c *Chest) Record(ctx context.Context, environment string) (found Record, ok bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		if found.Deployment, err = c.lastDeployment(r, environment); err != nil {
			return err
		}
		if found.Commit, err = r.Commit(found.Deployment.Commit); err == nil {
			found.Proofs, err = r.Proofs(found.Number)
		}
		return err
	})
	if errors.Is(err, ledger.ErrNotFound) && found.Number == 0 {
		return found, false, nil
	}
	return found, err == nil, Explain(err)
}

// RenameEnvironment lets the records of an environment speak of it by another name.
func (c *Chest) RenameEnvironment(ctx context.Context, from, to string) error {
	recorded := c.RecordName(from)
	_, err := c.do(ctx, RenameEnvironment{recorded, to + strings.TrimPrefix(recorded, from)})
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
	err = c.View(ctx, func(r ledger.Records) error { lines, err = r.Lines(environment); return err })
	for _, l := range lines {
		if l.Tip == from.ID && from.Depth > 0 {
			return l, false, Explain(err)
		}
	}
	return ledger.Branch{Name: fmt.Sprintf("%s%s/%d", ledger.LinePrefix, environment, len(lines)+1), Tip: from.ID, Origin: environment},
		true, Explain(err)
}

// KeptSince gives what an environment held before each deployment that was not taken
// back, the newest first.
func (c *Chest) KeptSince(ctx context.Context, environment string) (out []ledger.Kept, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.KeptSince(c.RecordName(environment)); return err })
	return out, Explain(err)
}

// Agree records that a person wants a commit in an environment, or does no more.
func (c *Chest) Agree(ctx context.Context, a ledger.Assent) error {
	return c.just(ctx, Assent{a})
}

// Assents gives who wants a commit in an environment.
func (c *Chest) Assents(ctx context.Context, environment string, commit ledger.ID) (out []ledger.Assent, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Assents(environment, commit); return err })
	return out, Explain(err)
}

// Bookings gives all bookings, in the order in which they were asked for.
func (c *Chest) Bookings(ctx context.Context) (out []ledger.Booking, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Bookings(); return err })
	return out, Explain(err)
}

// Book records a booking that check agrees to, given all others, and gives its number.
func (c *Chest) Book(ctx context.Context, b ledger.Booking, check func(others []ledger.Booking) error) (id int64, err error) {
	const patience = 20
	for n := 0; ; n++ {
		all, err := c.Bookings(ctx)
		if err != nil {
			return 0, err
		}
		if err := check(all); err != nil {
			return 0, err
		}
		a := Book{Booking: b}
		if len(all) > 0 {
			a.Seen = all[len(all)-1].ID
		}
		out, err := c.do(ctx, a)
		if !refused(err, BookingsMoved) || n == patience {
			return out.Number, Explain(err)
		}
	}
}

// EndBooking ends a booking before its time.
func (c *Chest) EndBooking(ctx context.Context, b ledger.Booking, at time.Time) error {
	b.Ended = at
	return c.just(ctx, EndBooking{b})
}

// Looked records what somebody saw who compared an environment with what was deployed.
func (c *Chest) Looked(ctx context.Context, l ledger.Look) error {
	l.Environment = c.RecordName(l.Environment)
	return c.just(ctx, NoteLook{l})
}

// Looks gives the newest look at each environment.
func (c *Chest) Looks(ctx context.Context) (out map[string]ledger.Look, err error) {
	var all map[string]ledger.Look
	err = c.View(ctx, func(r ledger.Records) error { all, err = r.Looks(); return err })
	out = make(map[string]ledger.Look, len(all))
	for name, l := range all {
		l.Environment = c.plainName(name)
		out[l.Environment] = l
	}
	return out, Explain(err)
}

// MarkDistinct records that two elements are different things.
func (c *Chest) MarkDistinct(ctx context.Context, d ledger.Distinct) error {
	return c.just(ctx, Distinguish{d})
}

// UnmarkDistinct takes that back.
func (c *Chest) UnmarkDistinct(ctx context.Context, one, other string) error {
	_, err := c.do(ctx, Undistinguish{one, other})
	if errors.Is(err, ledger.ErrNotFound) {
		return fault.New(fault.Usage, "oaken lookalikes --all lists what is marked.", "%s and %s are not marked as distinct.", one, other)
	}
	return Explain(err)
}

// Distincts gives all pairs that are marked so.
func (c *Chest) Distincts(ctx context.Context) (out []ledger.Distinct, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Distincts(); return err })
	return out, Explain(err)
}

// storeTree stores files in a batch of their own.
func (c *Chest) storeTree(ctx context.Context, files []KeptFile) (content.Digest, error) {
	batch := c.Contents.Begin(ctx)
	defer batch.Abandon()
	list := make([]File, 0, len(files))
	for _, f := range files {
		in, err := f.Open()
		if err != nil {
			return content.Digest{}, err
		}
		d, size, err := batch.Put(in)
		if err = errors.Join(err, in.Close()); err != nil {
			return content.Digest{}, err
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
	return c.just(ctx, NoteAttempt{a})
}

// Attempts gives those at an environment, all for an empty name, the newest first.
func (c *Chest) Attempts(ctx context.Context, environment string) (out []ledger.Attempt, err error) {
	if environment != "" {
		environment = c.RecordName(environment)
	}
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Attempts(environment); return err })
	for i := range out {
		out[i].Environment = c.plainName(out[i].Environment)
	}
	return out, Explain(err)
}
