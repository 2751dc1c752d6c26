package pipeline

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// commit records what was captured beside the workspace.
func (c *capturing) commit(ctx context.Context) error {
	w := c.m.Project
	if err := c.apart(ctx); err != nil {
		return err
	}
	if c.first() && len(c.got.Edits) > 0 {
		if c.record.Number > 0 {
			return fault.New(fault.Refused,
				"Run oaken capture "+fault.Word(c.Environment.Name)+" without --commit: what differs is then laid open to be settled.",
				"The folders or filters of %s have changed since it was known to hold %s: what they let in now nobody has looked at, and "+
					"it differs from what %s declares.", c.Environment.Name, label(c.record.Commit), c.Branch)
		}
		return fault.New(fault.Refused,
			"Run oaken capture "+fault.Word(c.Environment.Name)+" without --commit: what differs is then laid open to be settled. Or "+
				"oaken deploy "+fault.Word(c.Environment.Name)+" makes it hold what is declared.",
			"Nothing is known of what %s held, and it differs from what %s declares; which of the two counts somebody has to say.",
			c.Environment.Name, c.Branch)
	}
	if len(c.got.Edits) == 0 && len(c.own) == 0 {
		if !c.known && len(c.have) > 0 { // it is as the branch declares
			return c.standsOn(ctx, c.tip)
		}
		return nil
	}
	if err := c.m.Desk.MayChange(ctx, c.got.Edits); err != nil {
		return err
	}
	held, err := w.Chest.Hold(ctx)
	if err != nil {
		return err
	}
	defer held()
	if err := c.publish(ctx); err != nil {
		return err
	}
	c.Recorded = len(c.got.Edits) > 0 || c.Merged != nil || len(c.Conflicts) > 0
	if !c.Recorded { // what was captured before stays where it is
		c.Commit = ledger.Commit{}
	}
	_ = w.Chest.Gather(ctx)
	if c.m.branch() != c.Branch || c.Open || c.m.Desk.Unsent() {
		return nil
	}
	if _, err := c.m.Desk.Sync(ctx); err != nil && fault.CodeOf(err) != fault.Refused && fault.CodeOf(err) != fault.Conflict {
		return err
	}
	return nil
}

// publish makes the commits: on the branch where that stands where the environment stood,
// else beside it, with a merge.
func (c *capturing) publish(ctx context.Context) error {
	w := c.m.Project
	note, err := c.note(ctx)
	if err != nil {
		return err
	}
	tree, err := c.tree(ctx)
	if err != nil {
		return err
	}
	if len(c.Apart) == 0 && slices.Contains(c.m.rules(ctx).Manifest.Review.Only, c.Branch) { // it takes reviews alone
		c.Proposed, c.Branch = c.Branch, ""
		return c.beside(ctx, note, chest.Draft{})
	}
	switch {
	case len(c.Apart) > 0 && c.o.Onto != "":
		if err := c.beside(ctx, note, chest.Draft{}); err != nil {
			return err
		}
		return c.bringOnto(ctx)
	case len(c.Apart) > 0:
		c.Branch = ""
		return c.beside(ctx, note, chest.Draft{})
	case c.known && c.record.Commit.ID == c.tip.ID || !c.known:
		return c.onBranch(ctx, note)
	}
	on := c.record.Commit
	b, err := w.BlendOf(ctx, c.tip, on, tree)
	if err != nil {
		return err
	}
	if len(b.Merged.Conflicts) > 0 {
		if err := c.beside(ctx, note, chest.Draft{}); err != nil {
			return err
		}
		return c.openConflicts(ctx)
	}
	c.Combined = b.Merged.Artifacts
	if len(c.got.Edits) > 0 && b.Tree == c.tip.Tree && len(c.own) == 0 {
		brought, err := c.broughtBy(ctx)
		if err != nil {
			return err
		}
		if brought { // the branch has just that already
			return c.beside(ctx, note, chest.Draft{})
		}
	}
	return c.beside(ctx, note, chest.Draft{Branch: c.Branch, Tip: c.tip.ID, Tree: b.Tree, Author: w.Person, Workspace: w.Name,
		Time: c.m.Now(), Message: "From " + c.Environment.Name + ": " + c.o.Message})
}

// broughtBy reports whether the branch has a commit that did just what was done in the
// environment.
func (c *capturing) broughtBy(ctx context.Context) (bool, error) {
	lacks, err := c.m.lacks(ctx, c.record.Commit, c.tip)
	if err != nil {
		return false, err
	}
	tree, err := c.tree(ctx)
	if err != nil {
		return false, err
	}
	mine, err := c.m.Project.Chest.Diff(c.record.Commit.Tree, tree)
	if err != nil {
		return false, chest.Explain(err)
	}
	for _, x := range lacks {
		theirs, err := c.m.Project.Did(ctx, x)
		if err != nil {
			return false, err
		}
		if slices.Equal(mine, theirs) {
			return true, nil
		}
	}
	return false, nil
}

// onBranch records what was captured as a commit of the branch itself.
func (c *capturing) onBranch(ctx context.Context, note workspace.Capture) error {
	w, m := c.m.Project, c.m
	tree, err := w.TreeWith(ctx, c.tip.Tree, c.got.Edits)
	if err != nil {
		return err
	}
	done, err := w.Chest.Conclude(ctx, chest.Conclusion{
		Expect: &note.Number,
		Drafts: []chest.Draft{{Branch: c.Branch, Tip: c.tip.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: m.Now(),
			Message: c.o.Message, Item: c.o.Item}},
		Deployment: ledger.Deployment{Environment: c.Environment.Name, Author: w.Person, Workspace: w.Name, Time: m.Now(),
			Source: ActionFound},
		Account: ledger.Account{Action: ActionFound, Began: m.Now(), Gates: "[]"}, Proofs: note.Rules,
	})
	c.Commit = done.Commit
	return err
}

// beside records what was captured as a commit on the record, and its merge into the
// branch when there is one. What was captured before and only has to be merged is merged.
func (c *capturing) beside(ctx context.Context, note workspace.Capture, merge chest.Draft) error {
	w := c.m.Project
	if len(c.got.Edits) == 0 {
		c.Commit = c.record.Commit
		if merge.Branch == "" {
			return nil
		}
		merge.Merged = c.record.Commit.ID
		made, err := w.Chest.Publish(ctx, merge)
		c.Merged = &made
		return err
	}
	done, err := c.m.Desk.PublishCaptured(ctx, note, c.o.Message, c.o.Item, merge)
	if c.Commit = done.Commit; done.Merge.Depth > 0 {
		c.Merged = &done.Merge
	}
	return err
}

// openConflicts lays the conflicts between what was captured and the branch open in the
// workspace, where that stands on the branch and has no edits.
func (c *capturing) openConflicts(ctx context.Context) error {
	w := c.m.Project
	if c.m.branch() == c.Branch {
		if _, err := c.m.Desk.Sync(ctx); err == nil {
			r, err := c.m.Desk.Merge(ctx, c.Commit, label(c.Commit), "From "+c.Environment.Name+": "+c.o.Message)
			if err == nil {
				c.Conflicts, c.Open = r.Conflicts, true
				return nil
			}
			if fault.CodeOf(err) != fault.Refused {
				return err
			}
		}
	}
	foreseen, err := w.ForeseeInto(ctx, c.tip, c.Commit)
	if err == nil {
		c.Conflicts = foreseen.Conflicts
	}
	return err
}

// bringOnto does again on a branch what was captured beside it.
func (c *capturing) bringOnto(ctx context.Context) error {
	w := c.m.Project
	list := c.own
	if len(c.got.Edits) > 0 {
		list = append(slices.Clone(list), c.Commit)
	}
	tip := c.tip
	for _, x := range list {
		b, err := w.BlendOne(ctx, tip.Tree, x, nil)
		if err != nil {
			return err
		}
		if len(b.Merged.Conflicts) > 0 {
			return fault.New(fault.Conflict,
				"It is recorded as "+label(c.Commit)+", beside all branches: oaken go "+fault.Word(c.Branch)+" and oaken merge "+
					label(c.Commit)+" let you settle it, with what it stands on.",
				"What was changed in %s does not go onto %s, at %s.", c.Environment.Name, c.Branch, b.Merged.Conflicts[0].Address)
		}
		made, err := w.Chest.Publish(ctx, chest.Draft{Branch: c.Branch, Tip: tip.ID, Tree: b.Tree, Author: x.Author, Workspace: w.Name,
			Time: c.m.Now(), Message: x.Message, Item: x.Item, Picks: x.ID})
		if err != nil {
			return err
		}
		c.Combined = state.AlsoCombined(c.Combined, b.Merged.Artifacts)
		tip, c.Merged = made, &made
	}
	return nil
}
