package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newCommit(a *App) *cobra.Command {
	var o workspace.CommitOptions
	cmd := &cobra.Command{
		Use:   "commit [PATH...]",
		Short: "Record what changed, and publish it",
		Long: `Record what changed in this workspace, or the paths named, and publish it to the
chest at once. A message is demanded: on a terminal an editor (VISUAL, EDITOR)
opens when -m is missing, and the message may have several lines. The locks of what
is committed end, unless --keep-locks is given. Changed companions of what is named
go along. With a merge under way, commit completes it.

Where others have published first, theirs is brought in, combined by element, and yours
goes on top; where that leaves conflicts, your commit stays here, unsent, and they are laid open.
It also stays unsent with --hold, and while the chest is out of reach; oaken sync publishes.`,
		Example: "  oaken commit -m \"Brighter lamp above the coral\"\n" +
			"  oaken commit database -m \"Feedings have an amount\" --item AQ-12",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				var err error
				if o.Paths, err = a.asked(w).Paths(args); err != nil {
					return err
				}
				if !cmd.Flags().Changed("message") && a.Edit != nil {
					if o.Message, err = a.askMessage(cmd.Context(), w); err != nil {
						return err
					}
				}
				if a.Keys != nil && !a.JSON && !a.yes {
					o.Consent = a.commitUnreadable
				}
				c, err := w.Commit(cmd.Context(), o)
				if err != nil {
					return err
				}
				a.showCommitted(w, c)
				if err := a.sayRan(cmd.Context(), w, c); err != nil {
					return err
				}
				if len(c.Conflicts) > 0 {
					if a.JSON {
						return &conflictsRemain{}
					}
					a.showConflicts(c.Conflicts)
					return heldConflicts(len(c.Conflicts))
				}
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVarP(&o.Message, "message", "m", "", "say what changed and why: `TEXT`")
	f.StringVar(&o.Item, "item", "", "the work item that this is for: `KEY`")
	f.BoolVar(&o.Hold, "hold", false, "keep the commit here until the next oaken sync")
	f.BoolVar(&o.KeepLocks, "keep-locks", false, "keep the locks of what is committed")
	return cmd
}

// commitUnreadable asks whether artifacts are to be committed that can't be read any more.
func (a *App) commitUnreadable(lost []workspace.Unreadable) bool {
	a.EndProgress()
	for _, u := range lost {
		a.Note("%s.", strings.TrimSuffix(u.String(), "."))
	}
	return a.Ask("Commit it all the same?")
}

// sayRan names edits of data steps that have run somewhere, where they do not run again.
func (a *App) sayRan(ctx context.Context, w *workspace.Workspace, c *workspace.Committed) error {
	if a.JSON {
		return nil
	}
	for _, ch := range c.Changes {
		if ch.State != workspace.Edited && ch.State != workspace.Gone {
			continue
		}
		ran, not, err := a.mover(w).RanIn(ctx, ch.Path)
		if err != nil {
			return err
		}
		switch {
		case ch.State == workspace.Gone && len(not) > 0:
			a.Note("%s has not run in %s, and will not, now that it is gone.", ch.Path, strings.Join(not, ", "))
		case ch.State == workspace.Edited && len(ran) > 0:
			a.Note("%s has run in %s, and does not run there again. What is to be changed there needs a data step of its own.", ch.Path,
				strings.Join(ran, ", "))
		}
	}
	return nil
}

// ruler parts the message from what is there to look at.
const ruler = "――――― what is committed; from this line on nothing is part of the message ―――――"

// askMessage lets the person write a message in an editor, above the ruler.
func (a *App) askMessage(ctx context.Context, w *workspace.Workspace) (string, error) {
	if p, err := w.Pending(); err != nil || p != nil {
		return "", err // a merge has a message of its own
	}
	s, err := w.Changes(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("\n\n" + ruler + "\n\n")
	for _, c := range s.Changes {
		fmt.Fprintf(&b, "  %-9s  %s\n", stateWord(c), c.Path)
	}
	text, err := a.Edit(b.String())
	if err != nil {
		return "", fault.New(fault.Failed, "Nothing was recorded. Give the message with -m TEXT, or set EDITOR to another program.",
			"The editor failed: %w.", err)
	}
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		if strings.TrimSpace(line) == ruler {
			break
		}
		lines = append(lines, strings.TrimRight(line, " \t\r"))
	}
	return strings.TrimSpace(strings.Join(lines, "\n")), nil
}

func (a *App) showCommitted(w *workspace.Workspace, c *workspace.Committed) {
	if a.JSON {
		a.print(result.CommittedOf(c))
		return
	}
	for _, p := range c.LeftOut {
		a.Say("Left out: %s is contested, edited here without its lock.", p)
	}
	switch {
	case len(c.Changes) == 0 && !c.Merge:
		a.Say("Nothing has changed since %s; no commit was made.", workspace.Label(w.Base))
		return
	case c.Held > 0:
		a.Say("%s  %s", a.Paint(screen.Strong, "unsent"), screen.FirstLine(c.HeldMessage))
		a.Say("  %s, kept here as unsent commit %d; oaken sync publishes it", fileCounts(c.Changes), c.Held)
	default:
		a.Say("%s  %s", a.Paint(screen.Strong, workspace.Label(c.Commit)), screen.FirstLine(c.Commit.Message))
		a.Say("  %s, published as %s", fileCounts(c.Changes), c.Commit.ID.Short())
	}
	if b := c.Brought; b != nil && b.Commits > 0 && len(c.Conflicts) == 0 {
		a.Say("  on top of %s that came in first", screen.Count(b.Commits, "newer commit"))
		a.showCombined("combined by element", b.Combined)
	}
	for _, x := range c.Beside {
		name, _ := ledger.LineOf(x.Branch)
		name, _, _ = strings.Cut(name, chest.PersonalMark)
		taken := ""
		if w.Base.ID != c.Commit.ID {
			taken = "; " + workspace.Label(w.Base) + " takes that in, and stays as it is"
		}
		a.Say("  %s holds something else: %s%s", name, workspace.Label(x), taken)
	}
	for _, l := range c.Released {
		a.Say("  lock ended: %s", l)
	}
	for _, p := range c.Along {
		a.Say("  along with it, as a companion: %s", p)
	}
	for _, p := range c.Ended {
		a.Say("  its lines were ended as the project asks: %s", p)
	}
	for _, warning := range c.Warnings {
		a.Note("%s", warning)
	}
}

// fileCounts says how many files were new, edited and so on.
func fileCounts(changes []workspace.Change) string {
	n := map[workspace.FileState]int{}
	for _, c := range changes {
		n[c.State]++
	}
	out := ""
	for _, s := range []workspace.FileState{workspace.New, workspace.Edited, workspace.Moved, workspace.Gone, workspace.Contested} {
		if n[s] > 0 {
			if out != "" {
				out += ", "
			}
			out += fmt.Sprintf("%d %s", n[s], s)
		}
	}
	if out == "" {
		return "no file differs"
	}
	return screen.Count(len(changes), "file") + " (" + out + ")"
}
