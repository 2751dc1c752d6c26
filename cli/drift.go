package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newDrift(a *App) *cobra.Command {
	var check, brief, undo, allowLoss bool
	var keep, message string
	cmd := &cobra.Command{
		Use:   "drift [ENV...]",
		Short: "Show what environments hold that was not deployed",
		Long: `Compare environments with what was deployed to each last, and show what somebody
changed there since, the statements that would take it back, and the command that
would keep it. Without names, all environments are looked at. What was seen is noted
for oaken pipeline show; --check makes it fit for a scheduler.

--keep BRANCH records what was changed on a new branch that begins at what was
deployed; --undo takes it back, as a deployment that can be rolled back.`,
		Example:           "  oaken drift\n  oaken drift live --check\n  oaken drift live --keep live-by-hand\n  oaken drift test --undo",
		GroupID:           groupEnvironments,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (keep != "" || undo) && len(args) != 1 {
				return usage(cmd, "Name one environment whose changes are kept or taken back.")
			}
			switch {
			case keep != "":
				return a.with(cmd.Context(), func(w *workspace.Workspace) error {
					return a.keepDrift(cmd.Context(), w, args[0],
						keep, message)
				})
			case undo:
				return a.with(cmd.Context(), func(w *workspace.Workspace) error {
					return a.undoDrift(cmd.Context(), w,
						args[0], allowLoss)
				})
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				drifted, err := a.drift(cmd.Context(), w, args, brief)
				if err == nil && drifted && check {
					return &foundDifference{}
				}
				return err
			})
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when something drifted")
	cmd.Flags().BoolVar(&brief, "summary", false, "leave the statements out")
	cmd.Flags().StringVar(&keep, "keep", "", "record what was changed on a new branch `NAME`")
	cmd.Flags().StringVarP(&message, "message", "m", "", "what the commit on that branch says, `TEXT`")
	cmd.Flags().BoolVar(&undo, "undo", false, "take back what was changed")
	cmd.Flags().BoolVar(&allowLoss, "allow-loss", false, "consent to the loss of data; it is saved first")
	cmd.MarkFlagsMutuallyExclusive("keep", "undo", "check")
	_ = cmd.RegisterFlagCompletionFunc("keep", cobra.NoFileCompletions)
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	return cmd
}

func (a *App) keepDrift(ctx context.Context, w *workspace.Workspace, env, branch, message string) error {
	c, err := a.mover(w).KeepDrift(ctx, env, branch, message)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Kept{Environment: env, Branch: branch, Commit: result.CommitOf(c)})
		return nil
	}
	a.Say("What was changed in %s is kept as %s. It is owed to every environment before: oaken owed.", env,
		a.Paint(screen.Good, workspace.Label(c)))
	return nil
}

func (a *App) undoDrift(ctx context.Context, w *workspace.Workspace, env string, allowLoss bool) error {
	m := a.mover(w)
	d, err := m.UndoDrift(ctx, env)
	if err != nil {
		return err
	}
	defer d.Close()
	return a.carryOut(ctx, d, "", deployOptions{allowLoss: allowLoss}, func(p pipeline.DeployOptions) error { return m.Undo(ctx, d, p) })
}

func (a *App) drift(ctx context.Context, w *workspace.Workspace, names []string, brief bool) (drifted bool, err error) {
	if len(names) == 0 {
		for _, e := range w.Manifest.Environments {
			names = append(names, e.Name)
		}
	}
	list := []result.Drift{}
	var failed error
	for _, name := range names {
		d, err := a.mover(w).Drift(ctx, name)
		if err != nil {
			if len(names) == 1 || fault.CodeOf(err) == fault.Usage {
				return drifted, err
			}
			failed = errors.Join(failed, err)
			a.Say("%s  %s", a.Paint(screen.Strong, name), a.Paint(screen.Bad, err.Error()))
			list = append(list, result.Drift{Environment: name, Changes: []result.Change{}, Undo: []string{}, Error: err.Error()})
			continue
		}
		drifted = drifted || len(d.Differences) > 0
		if a.JSON {
			list = append(list, result.DriftOf(d))
		} else {
			a.showDrift(d, brief)
		}
	}
	if a.JSON {
		a.print(result.Drifts{Environments: list})
	}
	if failed != nil && !a.JSON {
		return drifted, fault.New(fault.Unreachable, "The others are shown above.", "Not every environment could be looked at.")
	}
	return drifted, nil
}

func (a *App) showDrift(d *pipeline.Drift, brief bool) {
	name := d.Environment.Name
	switch {
	case d.Deployed == nil:
		a.Say("%s  nothing was deployed yet", a.Paint(screen.Strong, name))
		return
	case len(d.Differences) == 0:
		a.Say("%s  %s, as it was deployed", a.Paint(screen.Strong, name), workspace.Label(*d.Deployed))
		return
	}
	label := workspace.Label(*d.Deployed)
	a.Say("%s  differs from %s, which was deployed last:", a.Paint(screen.Strong, name), label)
	a.showDifferences(d.Differences, false)
	if !brief && len(d.Undo) > 0 {
		a.Say("  To take it back (oaken drift %s --undo):", name)
		a.showSteps(d.Undo, "    ")
	}
	a.Say("  To keep it: oaken capture %s, then oaken commit; or, on a branch of its own, oaken drift %s --keep NAME.", name, name)
}
