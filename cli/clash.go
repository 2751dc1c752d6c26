package cli

import (
	"context"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// clash is something that is in conflict and that people settle: a merge under way in the
// workspace, or a promotion.
type clash struct {
	what, finish string
	options      string // that a command needs to settle it
	none         bool
	open         []element.Conflict
	sides        func() (mine, theirs state.State, err error)
	resolve      func(ctx context.Context, text string, keep element.Keep, value string) (settled, left []element.Conflict, err error)
	decide       func(ctx context.Context, list []workspace.Decision) (left []element.Conflict, err error)
}

// clashOf gives what is in conflict: in the promotion into an environment, when one is named,
// else in the workspace's merge.
func (a *App) clashOf(ctx context.Context, w *workspace.Workspace, to, from string) (*clash, error) {
	if to == "" {
		return a.mergeClash(ctx, w)
	}
	s, err := a.mover(w).Settling(ctx, from, to)
	if err != nil {
		return nil, err
	}
	return promotionClash(s), nil
}

func (a *App) mergeClash(ctx context.Context, w *workspace.Workspace) (*clash, error) {
	p, open, err := w.Conflicts(ctx)
	if err != nil {
		return nil, err
	}
	c := &clash{finish: "Finish with oaken commit.", none: p == nil, open: open, sides: w.MergeSides, resolve: w.Resolve, decide: w.Decide}
	if p != nil {
		c.what = p.What
	}
	return c, nil
}

func promotionClash(s *pipeline.PendingPromotion) *clash {
	return &clash{
		what: "the promotion from " + s.From + " to " + s.To, finish: "When its gates are open: oaken promote " + s.From + " " + s.To + ".",
		options: " --to " + quoteWord(s.To) + " --from " + quoteWord(s.From), open: s.Open, sides: s.Sides, resolve: s.Resolve,
		decide: s.Decide,
	}
}

// pickConflicts settles conflicts in a list on the terminal.
func (a *App) pickConflicts(ctx context.Context, c *clash) error {
	switch {
	case c.none:
		return fault.New(fault.Usage, "oaken merge and oaken revert can leave conflicts.",
			"Nothing is being merged, so there is no conflict to resolve.")
	case len(c.open) == 0:
		a.Say("All conflicts of %s are settled. %s", c.what, c.finish)
		return nil
	}
	keep, done, err := a.settleKeys(c.open)
	if err != nil {
		return err
	}
	var list []workspace.Decision
	for i, x := range c.open {
		if done && keep[i] != "" {
			list = append(list, workspace.Decision{Conflict: x, Keep: keep[i]})
		}
	}
	if len(list) == 0 {
		a.Say("Nothing was settled.")
		return nil
	}
	left, err := c.decide(ctx, list)
	if err != nil {
		return err
	}
	for _, d := range list {
		a.Say("%s  %s", d.Conflict.Address, a.Paint(screen.Good, settledText(d.Conflict, d.Keep, "")))
	}
	a.sayLeft(left, c)
	return nil
}

// sayLeft says how many conflicts are open.
func (a *App) sayLeft(left []element.Conflict, c *clash) {
	if len(left) > 0 {
		a.Say("%s still open.", openConflicts(len(left)))
		return
	}
	a.Say("All conflicts are settled. %s", c.finish)
}
