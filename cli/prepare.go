package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newEnvPrepare(a *App) *cobra.Command {
	var remove bool
	cmd := &cobra.Command{
		Use:   "prepare NAME",
		Short: "Let a shared database keep a log of who changes what",
		Long: `Set up a log in a PostgreSQL database: a schema oaken_log with a table, and two event
triggers that write into it who changed which object, when, and with which program.
capture then tells whose changes they are, and --mine takes one's own alone. The log
is no part of what is captured. --remove takes it away again.`,
		Example:           "  oaken env prepare dev\n  oaken env prepare dev --remove",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				done, err := a.mover(w).PrepareLog(cmd.Context(), args[0], remove)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Prepared{Environment: args[0], Log: !remove, Changed: !done})
					return nil
				}
				switch {
				case remove && done:
					a.Say("%s keeps no log of changes.", args[0])
				case remove:
					a.Say("%s keeps no log of changes any more.", args[0])
				case done:
					a.Say("%s keeps a log of changes already.", args[0])
				default:
					a.Say("%s keeps a log of changes from now on, in the schema oaken_log.", args[0])
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take the log away, with what it holds")
	return cmd
}
