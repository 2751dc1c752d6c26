package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/declare"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newPipelineAdd(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "add",
		Short: "Declare a lane, a gate or a move in oaken.toml",
		Long: `Declare a part of the pipeline in oaken.toml, at its end and with everything else left as
it is written there. It counts once it is committed to the first branch.`,
		Example: "  oaken pipeline add lane Reef --branch reef --developer Imke\n" +
			"  oaken pipeline add gate tested --approvals 1 --by testers\n" +
			"  oaken pipeline add move dev test --gate tested",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newAddLane(a), newAddGate(a), newAddMove(a))
	return cmd
}

// declared writes something into oaken.toml, and tells what is wrong with the landscape then.
func (a *App) declared(cmd *cobra.Command, what string, edit func(w *workspace.Workspace, data []byte) ([]byte, error)) error {
	return a.with(cmd.Context(), func(w *workspace.Workspace) error {
		err := w.EditManifest(func(data []byte) ([]byte, error) { return edit(w, data) })
		if err != nil {
			return err
		}
		findings := a.mover(w).Check(pipeline.LandscapeOf(w.Manifest))
		if a.JSON {
			a.print(result.Declared{Declared: what, Findings: result.FindingsOf(findings)})
			return nil
		}
		a.Say("%s is declared in oaken.toml. Commit it to the first branch, and it counts.", a.Paint(screen.Strong, what))
		return nil
	})
}

func newAddLane(a *App) *cobra.Command {
	var l manifest.Lane
	cmd := &cobra.Command{
		Use: "lane NAME", Short: "Declare a lane: one team's path through the pipeline",
		Example: "  oaken pipeline add lane Reef --branch reef --developer Imke --developer Tarek", Args: cobra.ExactArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			l.Name = args[0]
			return a.declared(cmd, "The lane "+l.Name, func(w *workspace.Workspace, data []byte) ([]byte, error) {
				if _, there := w.Manifest.Pipeline.Lane(l.Name); there {
					return nil, taken("lane", l.Name)
				}
				return declare.Lane(data, l)
			})
		},
	}
	cmd.Flags().StringVar(&l.Branch, "branch", "", "the branch of its environments that name none, `NAME`")
	cmd.Flags().StringSliceVar(&l.Developers, "developer", nil, "who works in it, `NAME`")
	cmd.Flags().StringVarP(&l.About, "message", "m", "", "what it is for, `TEXT`")
	_ = cmd.RegisterFlagCompletionFunc("branch", a.completeBranches)
	return cmd
}

func taken(what, name string) error {
	return fault.New(fault.Refused, "Choose another name, or edit it in oaken.toml.", "There is a %s %s already.", what, name)
}

func newAddGate(a *App) *cobra.Command {
	var g manifest.Gate
	cmd := &cobra.Command{
		Use: "gate NAME", Short: "Declare a gate: a condition on moves",
		Long: `Declare a gate: a command that passes (--command sh --command -c --command "make test"),
approvals of people (--approvals 1 --by testers), something that is needed (--needs
reviews, booking or signal), or a rest (--rest 2d).`,
		Example: "  oaken pipeline add gate tested --approvals 1 --by testers\n" +
			"  oaken pipeline add gate nightly --needs signal --by machines",
		Args: cobra.ExactArgs(1), ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			g.Name = args[0]
			return a.declared(cmd, "The gate "+g.Name, func(w *workspace.Workspace, data []byte) ([]byte, error) {
				if _, there := w.Manifest.Pipeline.Gate(g.Name); there || pipeline.BuiltIn(g.Name) {
					return nil, taken("gate", g.Name)
				}
				return declare.Gate(data, g)
			})
		},
	}
	f := cmd.Flags()
	f.StringArrayVar(&g.Command, "command", nil, "the command, and each of its words, `WORD`")
	f.StringVar(&g.Within, "within", "", "bound its `TIME`, such as 5m")
	f.IntVar(&g.Approvals, "approvals", 0, "how many must approve, `NUMBER`")
	f.StringSliceVar(&g.By, "by", nil, "whose approval or signal counts: a person or a role, `NAME`")
	f.StringVar(&g.Needs, "needs", "", "what it needs: `reviews|booking|signal`")
	f.StringVar(&g.Rest, "rest", "", "how long work must have been in the stage before, `TIME`")
	_ = cmd.RegisterFlagCompletionFunc("needs", cobra.FixedCompletions([]string{manifest.NeedsReviews, manifest.NeedsBooking,
		manifest.NeedsSignal}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func newAddMove(a *App) *cobra.Command {
	var v manifest.Move
	cmd := &cobra.Command{
		Use: "move FROM TO", Short: "Declare a way from one environment to another",
		Example: "  oaken pipeline add move dev test --gate tested", Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			v.From, v.To = args[0], args[1]
			return a.declared(cmd, "The move "+v.From+" → "+v.To, func(w *workspace.Workspace, data []byte) ([]byte, error) {
				for _, name := range args {
					if _, err := w.Manifest.Environment(name); err != nil {
						return nil, err
					}
				}
				if _, there := pipeline.LandscapeOf(w.Manifest).Move(v.From, v.To); there && len(w.Manifest.Pipeline.Moves) > 0 {
					return nil, taken("move", v.From+" → "+v.To)
				}
				return declare.Move(data, v)
			})
		},
	}
	cmd.Flags().StringSliceVar(&v.Gates, "gate", nil, "a `GATE` that work must pass")
	cmd.Flags().StringVarP(&v.About, "message", "m", "", "what it is for, `TEXT`")
	_ = cmd.RegisterFlagCompletionFunc("gate", a.completeGates)
	return cmd
}

// completeGates offers the gates that are declared.
func (a *App) completeGates(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		for _, g := range w.Manifest.Pipeline.Gates {
			out = append(out, g.Name)
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}
