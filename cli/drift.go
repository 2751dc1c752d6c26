package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/workspace"
)

func newDrift(a *App) *cobra.Command {
	var check, brief bool
	cmd := &cobra.Command{
		Use:   "drift [ENV...]",
		Short: "Show what environments hold that was not deployed",
		Long: `Compare environments with what was deployed to each last, and show what somebody
changed there since, the statements that would take it back, and the command that
would keep it. Without names, all environments are looked at.`,
		Example:           "  oaken drift\n  oaken drift live --check",
		GroupID:           groupEnvironments,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
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
	return cmd
}

func (a *App) drift(ctx context.Context, w *workspace.Workspace, names []string, brief bool) (drifted bool, err error) {
	if len(names) == 0 {
		for _, e := range w.Manifest.Environments {
			names = append(names, e.Name)
		}
	}
	list := []any{}
	var failed error
	for _, name := range names {
		d, err := a.mover(w).Drift(ctx, name)
		if err != nil {
			if len(names) == 1 || fault.CodeOf(err) == fault.Usage {
				return drifted, err
			}
			failed = errors.Join(failed, err)
			a.say("%s  %s", a.paint(strong, name), a.paint(bad, err.Error()))
			list = append(list, map[string]any{"environment": name, "error": err.Error()})
			continue
		}
		drifted = drifted || len(d.Differences) > 0
		if a.json {
			list = append(list, driftJSON(d))
		} else {
			a.showDrift(d, brief)
		}
	}
	if a.json {
		a.printJSON(map[string]any{"schema": "oaken.drift/1", "environments": list})
	}
	if failed != nil && !a.json {
		return drifted, fault.New(fault.Unreachable, "The others are shown above.", "Not every environment could be looked at.")
	}
	return drifted, nil
}

func driftJSON(d *pipeline.Drift) any {
	out := map[string]any{"environment": d.Environment.Name, "deployed": nil, "changes": changeRows(d.Differences), "undo": statements(d.Undo)}
	if d.Deployed != nil {
		out["deployed"] = workspace.Label(*d.Deployed)
	}
	return out
}

func statements(steps []environment.Step) []string {
	out := []string{}
	for _, s := range steps {
		out = append(out, s.Statements...)
	}
	return out
}

func (a *App) showDrift(d *pipeline.Drift, brief bool) {
	name := d.Environment.Name
	switch {
	case d.Deployed == nil:
		a.say("%s  nothing was deployed yet", a.paint(strong, name))
		return
	case len(d.Differences) == 0:
		a.say("%s  %s, as it was deployed", a.paint(strong, name), workspace.Label(*d.Deployed))
		return
	}
	label := workspace.Label(*d.Deployed)
	a.say("%s  differs from %s, which was deployed last:", a.paint(strong, name), label)
	a.showDifferences(d.Differences, false)
	if !brief && len(d.Undo) > 0 {
		a.say("  To take it back (oaken deploy %s %s):", name, label)
		a.showSteps(d.Undo, "    ")
	}
	a.say("  To keep it: oaken capture %s, then oaken commit.", name)
}
