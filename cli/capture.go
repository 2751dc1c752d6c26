package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/environment"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/review"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newCapture(a *App) *cobra.Command {
	var o pipeline.CaptureOptions
	var stoodOn string
	cmd := &cobra.Command{
		Use:   "capture ENV",
		Short: "Bring what was changed in an environment into the chest",
		Long: `Read an environment, and bring what was changed there into its folder of the project,
one file for each object. The chest knows what the environment held before: its record.
What was changed since is work on that record, and is merged into the environment's
branch as it is by now, by element. A capture never takes away what the environment
never had. Files of objects that are alike are not touched.

It then lies in the workspace until oaken commit records it; --commit records it at
once, beside the workspace, and makes no commit when nothing has changed, so that it can
run every night. It goes to the branch of the environment, or to the one that --onto names.
Where that does not have what the environment stood on, what is captured stays beside all
branches; --onto brings it alone to one. A capture that would remove more than half of the
files is refused unless --removes says how many.

Where another state is nearer to what is there than the record, as in a database that was
restored from a copy, --stood-on says which of them it was changed from; env:NAME means what
that environment is known to hold.

On a shared database, capture tells who changed what: from the locks, and from the
log that oaken env prepare sets up. --mine takes only your own changes.`,
		Example:           "  oaken capture dev\n  oaken capture live --commit -m \"Nightly\"\n  oaken capture test --stood-on env:live",
		GroupID:           groupEnvironments,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.Commit && strings.TrimSpace(o.Message) == "" {
				return usage(cmd, "A commit needs a message: -m TEXT.")
			}
			if !o.Commit && (o.Message != "" || o.Item != "") {
				return usage(cmd, "-m and --item go with --commit.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.capture(cmd.Context(), w, args[0], stoodOn, o) })
		},
	}
	cmd.Flags().BoolVar(&o.Commit, "commit", false, "record what was captured")
	cmd.Flags().IntVar(&o.Removes, "removes", 0, "consent to the removal of so many files, `COUNT`, more than half of them")
	cmd.Flags().BoolVar(&o.Mine, "mine", false, "take only objects that you have locked or changed")
	cmd.Flags().StringVar(&o.Onto, "onto", "", "the `BRANCH` that it goes to, in place of the environment's")
	cmd.Flags().StringVar(&stoodOn, "stood-on", "", "what the environment held before it was changed: `STATE`")
	cmd.Flags().StringVarP(&o.Message, "message", "m", "", "what the commit is for, `TEXT`")
	cmd.Flags().StringVar(&o.Item, "item", "", "the work item that the commit is for, `KEY`")
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	_ = cmd.RegisterFlagCompletionFunc("item", cobra.NoFileCompletions)
	_ = cmd.RegisterFlagCompletionFunc("onto", a.completeBranches)
	_ = cmd.RegisterFlagCompletionFunc("stood-on", a.completeStates)
	return cmd
}

func (a *App) capture(ctx context.Context, w *workspace.Workspace, name, stoodOn string, o pipeline.CaptureOptions) error {
	if stoodOn != "" {
		at, err := a.asked(w).Record(ctx, stoodOn)
		if err != nil {
			return err
		}
		o.StoodOn = &at
	}
	if a.Keys != nil && !a.JSON && !a.yes {
		o.IsRenamed = func(r environment.Rename) bool {
			if r.Table == "" {
				return a.Ask(fmt.Sprintf("Is table %s what %s was, by another name?", r.To, r.From))
			}
			return a.Ask(fmt.Sprintf("In table %s, is %s what %s was, by another name?", r.Table, r.To, r.From))
		}
	}
	c, err := a.mover(w).Capture(ctx, name, o)
	if err != nil {
		return err
	}
	number, err := a.propose(ctx, w, name, c)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.CapturedOf(name, c, number))
	} else {
		a.showCaptured(name, c, o.Commit)
		if number > 0 {
			a.Say("%s takes work by reviews alone: it is in review %s. oaken review show %d", c.Proposed,
				a.Paint(screen.Strong, strconv.FormatInt(number, 10)), number)
		}
		if n := len(c.Lacks); n > 0 {
			a.Say("%s lacks %s that %s has: %s. %s", name, screen.Count(n, "piece")+" of work", c.Branch, labelsOf(c.Lacks, 3),
				a.bringing(ctx, w, name))
		}
	}
	if len(c.Conflicts) > 0 {
		return &conflictsRemain{}
	}
	return nil
}

// propose opens a review of what was captured for a branch that takes work by reviews alone,
// and gives its number; one that is open takes new captures by itself. 0 stands for none.
func (a *App) propose(ctx context.Context, w *workspace.Workspace, name string, c *pipeline.Capture) (int64, error) {
	if c.Proposed == "" || !c.Recorded {
		return 0, nil
	}
	desk := a.desk(w)
	open, err := desk.List(ctx, true)
	if err != nil {
		return 0, err
	}
	for _, r := range open {
		if r.Source == c.Commit.Branch && r.Target == c.Proposed {
			return r.Number, nil
		}
	}
	r, err := desk.Open(ctx, review.Draft{Title: screen.FirstLine(c.Commit.Message), Text: "From " + name + ".", Item: c.Commit.Item,
		Source: c.Commit.Branch, Target: c.Proposed})
	if err != nil {
		return 0, err
	}
	return r.Number, nil
}

// showCaptured tells what came of a capture.
func (a *App) showCaptured(name string, c *pipeline.Capture, recorded bool) {
	a.sayUntracked(c.Untracked)
	if len(c.Unseen) > 0 {
		a.Say("%s", a.Paint(screen.Warm, "Kept as it is, because the user of the target may not see it: "+strings.Join(c.Unseen, ", ")+"."))
	}
	label := c.Environment.Into
	if c.Record != nil {
		label = workspace.Label(*c.Record)
	}
	switch {
	case c.Commit.Depth > 0 && !c.Recorded:
		a.Say("%s holds just what %s declares, which is noted: %s.", name, workspace.Label(c.Commit), screen.Count(c.Objects, "object"))
	case c.Pending && len(c.Written)+len(c.Conflicts) == 0:
		a.Say("%s holds what lies in %s already: %s, none changed. oaken commit records it.", name, c.Environment.Into,
			screen.Count(c.Objects, "object"))
	case len(c.Differences) == 0 && len(c.Written) == 0 && !c.Recorded:
		a.Say("%s holds what %s declares: %s, none changed.", name, label, screen.Count(c.Objects, "object"))
	case recorded:
		a.Say("%s: %s captured.", name, screen.Count(c.Objects, "object"))
		a.showDifferences(c.Differences, false)
	default:
		a.Say("%s: %s captured into %s, %s written.", name, screen.Count(c.Objects, "object"), c.Environment.Into,
			screen.Count(len(c.Written), "file"))
		a.showDifferences(c.Differences, false)
		a.sayRescued(c.Rescued)
	}
	for _, r := range c.Renamed {
		switch {
		case r.Table == "" && r.Sure:
			a.Say("Table %s was called %s: its file says so, and a deployment elsewhere renames it.", r.To, r.From)
			continue
		case r.Table == "":
			a.Say("%s", a.Paint(screen.Warm,
				fmt.Sprintf("Table %s went and %s came, with the same columns. If that is %[1]s by another name, "+
					"write -- formerly: %[1]s above it: else a deployment elsewhere drops it with its rows.", r.From, r.To)))
			continue
		}
		if r.Sure {
			a.Say("In table %s, %s was called %s: its file says so, and a deployment elsewhere renames it.", r.Table, r.To, r.From)
		} else {
			a.Say("%s", a.Paint(screen.Warm,
				fmt.Sprintf("In table %s, %s went and %s came, of the same type. If that is %s by another name, "+
					"write -- formerly: %s behind it: else a deployment elsewhere drops it with its values.", r.Table, r.From, r.To,
					r.From, r.From)))
		}
	}
	a.showBy(c.By)
	a.showCombined("combined by element", c.Combined)
	switch {
	case c.Recorded:
		a.showRecorded(name, c)
	case recorded:
		a.Say("Nothing has changed since %s; no commit was made.", label)
	case c.Merged != nil:
		a.Say("%s takes in what was captured before.", a.Paint(screen.Strong, workspace.Label(*c.Merged)))
	}
	if len(c.Conflicts) > 0 {
		a.showConflicts(c.Conflicts)
		if c.Open {
			a.Say("Settle them with oaken resolve, and record it with oaken commit.")
		} else {
			a.Say("What was captured is %s. To settle them: oaken go %s, then oaken merge %s.", workspace.Label(c.Commit), c.Branch,
				workspace.Label(c.Commit))
		}
	}
}

// showRecorded tells where what was captured went.
func (a *App) showRecorded(name string, c *pipeline.Capture) {
	a.Say("%s  %s", a.Paint(screen.Strong, workspace.Label(c.Commit)), screen.FirstLine(c.Commit.Message))
	a.Say("  published as %s", c.Commit.ID.Short())
	switch {
	case c.Merged != nil:
		a.Say("  %s takes it in", workspace.Label(*c.Merged))
	case c.Branch == "" && len(c.Apart) > 0:
		a.Say("%s stood on %s, so it stays beside the branches. With --onto BRANCH a branch gets it alone.", name, labelsOf(c.Apart, 3))
	case c.Branch == "": // it is proposed
	case len(c.Conflicts) == 0 && c.Commit.Branch != c.Branch:
		a.Say("  %s has just that already", c.Branch)
	}
}

// labelsOf names some commits.
func labelsOf(list []ledger.Commit, most int) string {
	var out []string
	for i, c := range list {
		if i == most {
			return strings.Join(out, ", ") + " and more"
		}
		out = append(out, workspace.Label(c))
	}
	return strings.Join(out, ", ")
}
