package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newApprove(a *App) *cobra.Command {
	var plan string
	var o pipeline.ApproveOptions
	cmd := &cobra.Command{
		Use:   "approve ENV",
		Short: "Say that what would be promoted to an environment may go there",
		Long: `Approve what the environment before ENV holds now. The approval is for just that:
when something else would be promoted, it counts no more. Which approvals are needed,
and whose count, gates in oaken.toml say.

With --signal GATE it is no approval: it says that something outside, such as a test
run elsewhere, is green for just this work. Those named under by of the gate give it.

With --plan FILE it is for a plan as it is written, and for no other that may be made
of the same work: oaken deploy and oaken promote write one with --plan FILE, and
follow one with --follow FILE.`,
		Example: "  oaken approve live\n  oaken approve rehearsal --from acceptance -m \"Seen with the keepers\"\n" +
			"  oaken approve live --withdraw\n  oaken approve live --plan plan.json\n" +
			"  oaken approve live --signal nightly -m \"run 812 is green\"",
		GroupID:           groupPipeline,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if plan != "" {
					return a.approvePlan(cmd.Context(), w, args[0], plan, o.Text, o.Withdraw)
				}
				return a.approve(cmd.Context(), w, args[0], o)
			})
		},
	}
	cmd.Flags().StringVar(&o.From, "from", "", "the environment that it would come from, `ENV`")
	cmd.Flags().StringVar(&plan, "plan", "", "approve the plan in `FILE`, just as it is written")
	_ = cmd.MarkFlagFilename("plan", "json")
	cmd.Flags().StringVar(&o.Signal, "signal", "", "say that what the `GATE` waits for outside is green for this work")
	_ = cmd.RegisterFlagCompletionFunc("signal", cobra.NoFileCompletions)
	cmd.MarkFlagsMutuallyExclusive("plan", "from")
	cmd.MarkFlagsMutuallyExclusive("plan", "signal")
	cmd.Flags().StringVarP(&o.Text, "message", "m", "", "what to say of it, `TEXT`")
	cmd.Flags().BoolVar(&o.Withdraw, "withdraw", false, "take your approval back")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	return cmd
}

func (a *App) approve(ctx context.Context, w *workspace.Workspace, env string, o pipeline.ApproveOptions) error {
	m := a.mover(w)
	if o.From == "" {
		from, err := a.approveOne(ctx, m, env)
		if err != nil {
			return err
		}
		o.From = from
	}
	got, err := m.Approve(ctx, env, o)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Approved{
			Environment: env, From: got.From, Commit: result.CommitOf(got.Commit), Person: w.Person, Withdrawn: o.Withdraw,
			Settled: result.ChosenOf(got.Settled), Gates: result.GatesOf(got.Gates), Work: result.CommitsOf(got.Work), Signal: o.Signal,
		})
		return nil
	}
	state := a.Paint(screen.Strong, workspace.Label(got.Commit))
	switch {
	case o.Withdraw && o.Signal != "":
		a.Say("Your signal for %s is taken back.", o.Signal)
		return nil
	case o.Withdraw:
		a.Say("Your approval of %s for %s is taken back.", workspace.Label(got.Commit), env)
	case o.Signal != "":
		a.Say("You signalled %s for %s, which %s holds.", o.Signal, state, got.From)
	default:
		a.Say("You approved %s, which %s holds, for %s.", state, got.From, env)
	}
	if !o.Withdraw {
		a.showApproved(got)
	}
	a.showGates(got.Gates)
	return nil
}

// showApproved tells what comes with an approval.
func (a *App) showApproved(got *pipeline.Approval) {
	if len(got.Work) == 0 {
		a.Say("  It brings nothing that is not there.")
	}
	a.showWork(got.Work, &pipeline.Promotion{})
	if len(got.Settled) > 0 {
		a.Say("It is for just what came of these choices: another one, or new work, and it counts no more.")
		a.showChosen(got.Settled)
	}
	if len(got.Gates) == 0 {
		a.Note("No gate of that move asks for approvals; it is on the record all the same.")
	}
}
