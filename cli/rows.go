package cli

import (
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newRows(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "rows",
		Short: "Keep the rows of lookup tables with the project",
		Long: `Tables with lookup data (kinds, states, price groups) belong to a database as much
as its columns do. The rows of a tracked table are a CSV file in the folder rows
beside its tables, sorted by the primary key: they are captured, compared, merged
and deployed row by row.`,
		Example: "  oaken rows track care.kind\n  oaken rows untrack care.kind",
		GroupID: groupEnvironments,
		Args:    cobra.NoArgs,

		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newTrack(a), newUntrack(a))
	return cmd
}

func newTrack(a *App) *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use:   "track TABLE...",
		Short: "Track the rows of tables",
		Long: `Write the rows of tables, as an environment has them, into the project. From then on
capture, compare, merge and deploy know them. A table needs a primary key. --from
names the environment where the project has several.`,
		Example:           "  oaken rows track care.kind\n  oaken rows track kind state --from dev",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				written, err := a.mover(w).TrackRows(cmd.Context(), from, args)
				if err != nil {
					return err
				}
				a.showRows("tracked", written)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the environment, `ENV`, whose rows are taken")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	return cmd
}

func newUntrack(a *App) *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use:   "untrack TABLE...",
		Short: "Track the rows of tables no longer",
		Long: `Take the rows of tables out of the project. Environments keep the rows that they
have.`,
		Example:           "  oaken rows untrack care.kind",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				removed, err := a.mover(w).UntrackRows(cmd.Context(), from, args)
				if err != nil {
					return err
				}
				a.showRows("not tracked any more", removed)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the environment, `ENV`, whose folder is meant")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	return cmd
}

func (a *App) showRows(how string, files []string) {
	if a.JSON {
		a.print(result.Rows{Files: result.List(files)})
		return
	}
	if len(files) == 0 {
		a.Say("Nothing has changed.")
	}
	for _, f := range files {
		a.Say("%s  %s", f, how)
	}
}

func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
