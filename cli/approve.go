package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newApprove(a *App) *cobra.Command {
	var from, message, plan string
	var withdraw bool
	cmd := &cobra.Command{
		Use:   "approve ENV",
		Short: "Say that what would be promoted to an environment may go there",
		Long: `Approve what the environment before ENV holds now. The approval is for just that:
when something else would be promoted, it counts no more. Which approvals are needed,
and whose count, gates in oaken.toml say.

With --plan FILE it is for a plan as it is written, and for no other that may be made
of the same work: oaken deploy and oaken promote write one with --plan FILE, and
follow one with --follow FILE.`,
		Example: "  oaken approve live\n  oaken approve rehearsal --from acceptance -m \"Seen with the keepers\"\n" +
			"  oaken approve live --withdraw\n  oaken approve live --plan plan.json",
		GroupID:           groupPipeline,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if plan != "" {
					return a.approvePlan(cmd.Context(), w, args[0], plan, message, withdraw)
				}
				return a.approve(cmd.Context(), w, args[0], from, message, withdraw)
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the environment that it would come from, `ENV`")
	cmd.Flags().StringVar(&plan, "plan", "", "approve the plan in `FILE`, just as it is written")
	_ = cmd.MarkFlagFilename("plan", "json")
	cmd.MarkFlagsMutuallyExclusive("plan", "from")
	cmd.Flags().StringVarP(&message, "message", "m", "", "what to say of it, `TEXT`")
	cmd.Flags().BoolVar(&withdraw, "withdraw", false, "take your approval back")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	return cmd
}

func (a *App) approve(ctx context.Context, w *workspace.Workspace, env, from, message string, withdraw bool) error {
	got, err := a.mover(w).Approve(ctx, env, from, message, withdraw)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Approved{
			Environment: env, From: got.From, Commit: result.CommitOf(got.Commit), Person: w.Person, Withdrawn: withdraw,
			Settled: result.ChosenOf(got.Settled), Gates: result.GatesOf(got.Gates),
		})
		return nil
	}
	if withdraw {
		a.Say("Your approval of %s for %s is taken back.", workspace.Label(got.Commit), env)
	} else {
		a.Say("You approved %s, which %s holds, for %s.", a.Paint(screen.Strong, workspace.Label(got.Commit)), got.From, env)
	}
	if len(got.Settled) > 0 && !withdraw {
		a.Say("It is for just what came of these choices: another one, or new work, and it counts no more.")
		a.showChosen(got.Settled)
	}
	if len(got.Gates) == 0 && !withdraw {
		a.Note("No gate of that move asks for approvals; it is on the record all the same.")
	}
	a.showGates(got.Gates)
	return nil
}
