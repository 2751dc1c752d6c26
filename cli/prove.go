package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newDeploymentsProve(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "prove ENV",
		Short: "Run what must pass after a deployment once more",
		Long: `Run the commands that oaken.toml declares under [[pipeline.after]] for an environment
once more, for what was deployed there last, and record what came of it. An environment
in which one does not pass is in doubt, and nothing moves on from it.`,
		Example:           "  oaken deployments prove live",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				got, err := a.mover(w).Prove(cmd.Context(), args[0], a.tellsAfter)
				if a.JSON && got != nil {
					a.print(result.Proved{Environment: args[0], After: result.AfterOf(got)})
					if err != nil {
						return &alreadyTold{err}
					}
					return nil
				}
				a.showAfter(got)
				if err == nil {
					a.Say("%s is as it should be.", a.Paint(screen.Strong, args[0]))
				}
				return err
			})
		},
	}
}

// tellsAfter tells which command is run.
func (a *App) tellsAfter(name string) {
	if a.Live && !a.JSON {
		a.Note("%s is run …", name)
	}
}

// showAfter tells what came of the commands that must pass after a deployment.
func (a *App) showAfter(after *pipeline.Aftermath) {
	if after == nil || a.JSON {
		return
	}
	var rows [][]screen.Cell
	for _, r := range after.Results {
		word := screen.Good.Cell("passed")
		said := fmt.Sprintf("in %s", (time.Duration(r.Took) * time.Millisecond).Round(time.Millisecond))
		if !r.Passed {
			word, said = screen.Bad.Cell("did not pass"), r.Said
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(r.Name), word, screen.Plain.Cell(said)})
	}
	a.Say("\n%s", a.Paint(screen.Strong, "After it: "+after.Outcome))
	a.Table(a.Out, "  ", rows)
	for _, r := range after.Results {
		if !r.Passed && strings.TrimSpace(r.Output) != "" {
			a.Say("\n%s\n%s\n", a.Paint(screen.Strong, "What "+r.Name+" said"), lastLines(r.Output, mostShown))
		}
	}
}
