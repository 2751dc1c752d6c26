package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/pipeline"
	"oakenchest/core/workspace"
)

func newWithdraw(a *App) *cobra.Command {
	var o deployOptions
	var w pipeline.WithdrawOptions
	cmd := &cobra.Command{
		Use:   "withdraw ENV --item KEY",
		Short: "Take the work for one item out of an environment, and leave the rest",
		Long: `Take the work for one item out of an environment. A commit on the environment's branch
takes it back, and the environment is brought to that like by a deployment: the
statements are shown, what would be lost needs consent and is saved first, and comes
back when the item is promoted again. Work that stands on the item's is named, and goes
along with --with-dependents.

What was taken out is not there: it is not owed, no merge brings it again, and a
promotion that would bring it asks first.`,
		Example: "  oaken withdraw live --item AQ-31 --dry-run\n" +
			"  oaken withdraw live --item AQ-31 --reason \"slows the till down\"",
		GroupID:           groupPipeline,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if w.Item == "" {
				return usage(cmd, "Say which item: --item KEY.")
			}
			return a.with(cmd.Context(), func(ws *workspace.Workspace) error { return a.withdraw(cmd.Context(), ws, args[0], w, o) })
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&w.Item, "item", "", "the work item that is taken out, `KEY`")
	cmd.Flags().BoolVar(&w.WithDependents, "with-dependents", false, "take out what stands on it, too")
	cmd.Flags().BoolVar(&o.replace, "replace-drift", false, "consent to changing what no commit knows; it is kept first")
	cmd.Flags().StringVar(&o.reason, "reason", "", "why it is taken out, `TEXT`")
	for _, name := range []string{"item", "reason"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

func (a *App) withdraw(ctx context.Context, w *workspace.Workspace, env string, wo pipeline.WithdrawOptions, o deployOptions) error {
	m := a.mover(w)
	var err error
	if err = o.tell(m); err != nil {
		return err
	}
	x, err := m.PrepareWithdrawal(ctx, env, wo)
	if err != nil {
		return err
	}
	defer x.Close()
	if !a.JSON {
		a.Say("Takes out of %s:", a.Paint(screen.Strong, env))
		var rows [][]screen.Cell
		for _, c := range x.Takes {
			why := ""
			for _, n := range x.Dependents {
				if n.ID == c.ID {
					why = fmt.Sprintf("%s %s", n.How, n.What)
				}
			}
			rows = append(rows, []screen.Cell{screen.Strong.Cell(workspace.Label(c)), screen.Plain.Cell(c.Item),
				screen.Plain.Cell(screen.OneLine(screen.FirstLine(c.Message), 50)),
				screen.Faint.Cell(c.Author), screen.Faint.Cell(why)})
		}
		a.Table(a.Out, "  ", rows)
	}
	o.ask = "Take this out of " + env + "?"
	return a.carryOut(ctx, &x.Deployment, "", o, func(p pipeline.DeployOptions) error {
		if err := m.Withdraw(ctx, x, p); err != nil {
			return err
		}
		x.Label = workspace.Label(x.Commit)
		return nil
	})
}
