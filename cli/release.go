package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newRelease(a *App) *cobra.Command {
	var comment, from string
	cmd := &cobra.Command{
		Use:   "release NAME",
		Short: "Name a state for good",
		Long: "Give the commit that the workspace stands on, or the one that --from names, a name\n" +
			"that never changes. oaken release list shows all of them.",
		Example:           "  oaken release spring -m \"As shown at the opening\"\n  oaken release list",
		GroupID:           groupBranches,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				at := w.Base
				if from != "" {
					var err error
					if at, err = a.asked(w).Commit(cmd.Context(), from); err != nil {
						return err
					}
				}
				if at.ID == (ledger.ID{}) {
					return fault.New(fault.Usage, "Commit something first.", "There is no commit yet that could be released.")
				}
				if err := w.Chest.AddRelease(cmd.Context(), ledger.Release{Name: args[0], Commit: at.ID, Comment: comment, Author: w.Person,
					Time: a.Now()}); err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Released{Release: args[0], Commit: result.CommitOf(at)})
					return nil
				}
				a.Say("Release %s is %s. Name it with release:%s.", a.Paint(screen.Strong, args[0]), workspace.Label(at), args[0])
				return nil
			})
		},
	}
	cmd.Flags().StringVarP(&comment, "message", "m", "", "say what it is for: `TEXT`")
	cmd.Flags().StringVar(&from, "from", "", "release `STATE`")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeStates)
	cmd.AddCommand(newReleasePlan(a), &cobra.Command{
		Use: "list", Short: "List the releases, the newest first", Example: "  oaken release list", Args: cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.listReleases(cmd.Context(), w) })
		},
	})
	return cmd
}

func (a *App) listReleases(ctx context.Context, w *workspace.Workspace) error {
	list, err := a.asked(w).Releases(ctx)
	if err != nil {
		return err
	}
	var rows [][]screen.Cell
	for _, r := range list {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(r.Name), screen.Plain.Cell(workspace.Label(r.Named)),
			screen.Plain.Cell(screen.Clock(r.Time)), screen.Plain.Cell(r.Author),
			screen.Plain.Cell(screen.Gist(screen.FirstLine(r.Comment+"\n"), 80))})
	}
	switch {
	case a.JSON:
		a.print(service.ReleasesResult(list))
	case len(rows) == 0:
		a.Say("There is no release yet. Make one with oaken release NAME.")
	default:
		a.Table(a.Out, "", rows)
	}
	return nil
}
