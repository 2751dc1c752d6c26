package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newEnvRefresh(a *App) *cobra.Command {
	var from string
	var o pipeline.RefreshOptions
	cmd := &cobra.Command{
		Use:   "refresh ENV",
		Short: "Make an environment's databases copies of a later environment's",
		Long: `Make the databases of an environment copies of those of a later one, such as live, by
the engine's own dump and load, with columns masked as oaken.toml says under [[mask]];
nothing unmasked is ever in the environment. --table and --skip choose the tables whose
rows are taken. Then the work that it had and the later one has not is deployed again.
What it held is kept first, as the engine's own dump.`,
		Example: "  oaken env refresh test --from live --allow-loss\n" +
			"  oaken env refresh test --from live --skip 'visit_*' --allow-loss",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if from == "" {
				return usage(cmd, "Name where it comes from: --from ENV.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.refresh(cmd.Context(), w, args[0], from, o) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&from, "from", "", "the environment, `ENV`, that it becomes a copy of")
	f.StringSliceVar(&o.Tables, "table", nil, "take the rows of tables that fit the `PATTERN` alone")
	f.StringSliceVar(&o.Skip, "skip", nil, "take no rows of tables that fit the `PATTERN`")
	f.BoolVar(&o.AllowLoss, "allow-loss", false, "consent to the loss of all that it holds; it is kept first")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	for _, name := range []string{"table", "skip"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

func (a *App) refresh(ctx context.Context, w *workspace.Workspace, env, from string, o pipeline.RefreshOptions) error {
	o.Told = func(what string) {
		if a.Live && !a.JSON {
			a.Note("%s …", what)
		}
	}
	o.After = a.tellsAfter
	r, err := a.mover(w).Refresh(ctx, env, from, o)
	if r != nil && r.After != nil && err != nil { // the copy is made all the same
		a.showAfter(r.After)
	}
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.RefreshedOf(r))
		return nil
	}
	a.Say("%s is a copy of %s now: %s.", a.Paint(screen.Strong, env), from, workspace.Label(r.Has))
	if len(r.Masked) > 0 {
		a.Say("Masked: %s", strings.Join(r.Masked, ", "))
	} else {
		a.Say("%s", a.Paint(screen.Warm, "Nothing is masked: no rule of the project says that anything is ([[mask]] in oaken.toml)."))
	}
	a.Say("What it held is kept in %s.", r.Saved)
	switch {
	case r.Again.Depth > 0:
		a.Say("%s was deployed to it again, for it has what %s has not.", workspace.Label(r.Again), from)
	case len(r.Lacks) > 0:
		a.Say("It lacks %s that it had, because %s has other work that it lacked: bring that back (oaken owed), and promote again.",
			labelsOf(r.Lacks, 4), from)
	}
	a.showAfter(r.After)
	return nil
}
