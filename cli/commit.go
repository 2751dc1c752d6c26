package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
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
go along. With a merge under way, commit completes it.`,
		Example:           "  oaken commit -m \"Brighter lamp above the coral\"\n  oaken commit database -m \"Feedings have an amount\" --item AQ-12",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				var err error
				if o.Paths, err = a.projectPaths(w, args); err != nil {
					return err
				}
				if !cmd.Flags().Changed("message") && a.Edit != nil {
					if o.Message, err = a.askMessage(cmd.Context(), w); err != nil {
						return err
					}
				}
				c, err := w.Commit(cmd.Context(), o)
				if err != nil {
					return err
				}
				a.showCommitted(w, c)
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVarP(&o.Message, "message", "m", "", "say what changed and why: `TEXT`")
	f.StringVar(&o.Item, "item", "", "the work item that this is for: `KEY`")
	f.BoolVar(&o.KeepLocks, "keep-locks", false, "keep the locks of what is committed")
	return cmd
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
		return "", fault.New(fault.Failed, "Nothing was recorded. Give the message with -m TEXT, or set EDITOR to another program.", "The editor failed: %w.", err)
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
	if a.json {
		var commit any
		if len(c.Changes) > 0 || c.Merge {
			commit = commitJSON(c.Commit)
		}
		a.printJSON(map[string]any{"schema": "oaken.commit/1", "commit": commit, "files": len(c.Changes), "released": append([]string{}, c.Released...),
			"along": append([]string{}, c.Along...), "ended": append([]string{}, c.Ended...), "warnings": append([]string{}, c.Warnings...)})
		return
	}
	if len(c.Changes) == 0 && !c.Merge {
		a.say("Nothing has changed since %s; no commit was made.", workspace.Label(w.Base))
		return
	}
	a.say("%s  %s", a.paint(strong, workspace.Label(c.Commit)), firstLine(c.Commit.Message))
	a.say("  %s, published as %s", fileCounts(c.Changes), c.Commit.ID.Short())
	for _, l := range c.Released {
		a.say("  lock ended: %s", l)
	}
	for _, p := range c.Along {
		a.say("  along with it, as a companion: %s", p)
	}
	for _, p := range c.Ended {
		a.say("  its lines were ended as the project asks: %s", p)
	}
	for _, warning := range c.Warnings {
		a.note("%s", warning)
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
	return count(len(changes), "file") + " (" + out + ")"
}

// commitJSON is a commit for scripts.
func commitJSON(c ledger.Commit) any {
	parents := []string{}
	for _, p := range c.Parents {
		parents = append(parents, p.String())
	}
	return map[string]any{"id": c.ID.String(), "state": workspace.Label(c), "author": c.Author, "workspace": c.Workspace, "time": stamp(c.Time), "message": c.Message, "item": c.Item, "parents": parents}
}
