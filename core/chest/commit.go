package chest

import (
	"context"
	"slices"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Draft is a commit to be made.
type Draft struct {
	Branch string
	// Tip is where the branch is believed to be; zero before the first commit.
	Tip ledger.ID
	// Merged is a second parent; zero for none.
	Merged    ledger.ID
	Tree      content.Digest
	Author    string
	Workspace string
	Time      time.Time
	Message   string
	Item      string
	// Release lists addresses whose locks end with the commit.
	Release []string
	// Picks is the commit whose work this one brings; zero for none.
	Picks ledger.ID
	// Takes are the works that this commit takes back.
	Takes []ledger.ID
	// Settled says, of a merge, that people settled something in it.
	Settled bool
	// Traces is what is noted of the commit; the chest fills it in.
	Traces Traces
}

// Publish records a commit and moves the branch to it, in one transaction. The bytes that it names must be
// committed before. When the branch has moved, it is refused and nothing changes.
func (c *Chest) Publish(ctx context.Context, d Draft) (ledger.Commit, error) {
	out, err := c.publish(ctx, Publish{Drafts: []Draft{d}})
	if err != nil {
		return ledger.Commit{}, err
	}
	return out.Commits[0], nil
}

// Ruling is what a commit was decided by, beside its branch.
type Ruling struct {
	// Review, when set, is closed as it says, with the commit as its outcome.
	Review *ledger.Review
	// Rules, when set, is where the first branch was when its rules were read.
	Rules *ledger.ID
}

// PublishRuled is Publish of what was decided by rules, or in a review.
func (c *Chest) PublishRuled(ctx context.Context, d Draft, by Ruling) (ledger.Commit, error) {
	r := by.Review
	out, err := c.publishOn(ctx, Publish{Drafts: []Draft{d}, Review: r}, by.Rules)
	if refused(err, Unknown) && r != nil {
		err = fault.New(fault.Refused, "oaken review list shows those that are open.", "Review %d is not open any more.", r.Number)
	}
	if err != nil {
		return ledger.Commit{}, err
	}
	return out.Commits[0], nil
}

// PublishAll is Publish of commits each on the one before, all on one branch: all or none.
func (c *Chest) PublishAll(ctx context.Context, drafts []Draft) ([]ledger.Commit, error) {
	if len(drafts) == 0 {
		return nil, nil
	}
	out, err := c.publish(ctx, Publish{Drafts: drafts})
	return out.Commits, err
}

// publish is the one way in: it asks the warden, tells what the drafts touch, and acts.
func (c *Chest) publish(ctx context.Context, a Publish) (Outcome, error) {
	return c.publishOn(ctx, a, nil)
}

// publishOn is publish of what rules were asked for, as the first branch had them at a commit; nil for none.
func (c *Chest) publishOn(ctx context.Context, a Publish, rules *ledger.ID) (Outcome, error) {
	if err := c.Allowed(ctx, a.Drafts...); err != nil {
		return Outcome{}, err
	}
	if a.Merge != nil {
		if err := c.Allowed(ctx, *a.Merge); err != nil {
			return Outcome{}, err
		}
	}
	if err := c.trace(ctx, &a); err != nil {
		return Outcome{}, Explain(c.overtaken(ctx, err))
	}
	on := c.leases.grounds()
	on.Rules = rules
	out, err := c.doOn(ctx, a, on)
	if r, ok := asRefusal(err); ok && r.Reason == RecordMoved {
		r.Subject = c.plainName(r.Subject)
	}
	return out, Explain(err)
}

// trace tells of all drafts what they touch.
func (c *Chest) trace(ctx context.Context, a *Publish) (err error) {
	a.Drafts = slices.Clone(a.Drafts)
	for i := range a.Drafts {
		d := &a.Drafts[i]
		if i == 0 {
			d.Traces, err = c.touches(ctx, *d)
		} else {
			d.Traces, err = c.tracesOf([]ledger.Commit{{Tree: a.Drafts[i-1].Tree}}, d.Tree)
		}
		if err != nil {
			return err
		}
	}
	if a.Merge == nil {
		return nil
	}
	m := *a.Merge
	m.Traces, err = c.touches(ctx, m, ledger.Commit{Tree: a.Drafts[len(a.Drafts)-1].Tree})
	a.Merge = &m
	return err
}
