package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/workspace"
)

func newHistory(a *App) *cobra.Command {
	limit := 30
	cmd := &cobra.Command{
		Use:               "history [PATH]",
		Short:             "List the commits, of the project or of one path",
		Long:              "List the commits of the branch that the workspace is on, the newest first; with a\npath, those that changed it.",
		Example:           "  oaken history\n  oaken history exhibit/reef.glb --limit 5",
		GroupID:           groupDaily,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 1 {
				return usage(cmd, "--limit takes a number from 1.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				paths, err := a.projectPaths(w, args)
				if err != nil {
					return err
				}
				commits, more, err := a.commits(cmd.Context(), w, paths, limit)
				if err != nil {
					return err
				}
				if len(paths) == 1 && len(commits) == 0 {
					return fault.New(fault.Usage, "oaken changes lists what is new; paths are those of the project.", "No commit holds %s.", args[0])
				}
				a.showHistory(w, commits, more)
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", limit, "list at most `N` commits")
	return cmd
}

// commits lists the newest commits, those that changed a path when one is given.
func (a *App) commits(ctx context.Context, w *workspace.Workspace, paths []string, limit int) (out []ledger.Commit, more bool, err error) {
	byID := map[ledger.ID]ledger.Commit{}
	parent := func(id ledger.ID) (ledger.Commit, error) {
		if c, ok := byID[id]; ok {
			return c, nil
		}
		c, err := w.Chest.Resolve(ctx, id.String())
		byID[id] = c
		return c, err
	}
	var all []ledger.Commit
	err = w.Chest.Ancestors(ctx, w.Base.ID, func(c ledger.Commit) (bool, error) {
		byID[c.ID] = c
		all = append(all, c)
		return len(paths) > 0 || len(all) <= limit, nil
	})
	if err != nil {
		return nil, false, err
	}
	for _, c := range all {
		if len(paths) > 0 {
			touched, err := touches(w.Chest, c, paths[0], parent)
			if err != nil {
				return nil, false, err
			}
			if !touched {
				continue
			}
		}
		if len(out) == limit {
			return out, true, nil
		}
		out = append(out, c)
	}
	return out, false, nil
}

// touches reports whether a commit has a path otherwise than all its parents.
func touches(c *chest.Chest, commit ledger.Commit, p string, parent func(ledger.ID) (ledger.Commit, error)) (bool, error) {
	now, err := c.At(commit.Tree, p)
	if err != nil {
		return false, chest.Explain(err)
	}
	if len(commit.Parents) == 0 {
		return now.Mode != 0, nil
	}
	for _, id := range commit.Parents {
		before, err := parent(id)
		if err != nil {
			return false, err
		}
		was, err := c.At(before.Tree, p)
		if err != nil {
			return false, chest.Explain(err)
		}
		if was.Same(now) {
			return false, nil
		}
	}
	return true, nil
}

func (a *App) showHistory(w *workspace.Workspace, commits []ledger.Commit, more bool) {
	if a.json {
		list := []any{}
		for _, c := range commits {
			list = append(list, commitJSON(c))
		}
		a.printJSON(map[string]any{"schema": "oaken.history/1", "commits": list, "more": more})
		return
	}
	if len(commits) == 0 {
		a.say("Branch %s has no commit yet.", w.Branch)
		return
	}
	var rows [][]cell
	for _, c := range commits {
		message := firstLine(c.Message)
		if c.Item != "" {
			message = c.Item + ": " + message
		}
		rows = append(rows, []cell{{workspace.Label(c), strong}, {clock(c.Time), plain}, {c.Author, plain}, {c.ID.Short(), faint}, {oneLine(message, 80), plain}})
	}
	a.table(a.Out, "", rows)
	if more {
		a.note("There are more; --limit says how many are listed.")
	}
}
