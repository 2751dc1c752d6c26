package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/lookalike"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newLookalikes(a *App) *cobra.Command {
	var least float64
	var all, check bool
	cmd := &cobra.Command{
		Use:   "lookalikes",
		Short: "Find things that two lanes seem to have made under different names",
		Long: `Compare what the lanes have added since what is live, and list pairs that seem to be
one thing under two names: an arrival date here, a date received there. It judges by
the words of the names, what sort of value they hold, where they lie, what lies beside
them and what uses them; the score says how much speaks for it.

Two that are different things are marked so for good with oaken lookalikes distinct.`,
		Example: "  oaken lookalikes\n  oaken lookalikes --least 0.5 --check\n" +
			"  oaken lookalikes distinct database::table:tank/column:kind database::table:food/column:sort -m \"Of tanks, and of food\"",
		GroupID:           groupPipeline,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if least < 0 || least > 1 {
				return usage(cmd, "--least takes a number from 0 to 1.")
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				return a.lookalikes(cmd.Context(), w, least, all, check)
			})
		},
	}
	cmd.Flags().Float64Var(&least, "least", lookalike.Likely, "list pairs with at least the `SCORE`, 0 to 1")
	cmd.Flags().BoolVar(&all, "all", false, "list those too that are marked as distinct")
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when there is a pair")
	_ = cmd.RegisterFlagCompletionFunc("least", cobra.NoFileCompletions)
	cmd.AddCommand(newLookalikesDistinct(a))
	return cmd
}

func (a *App) lookalikes(ctx context.Context, w *workspace.Workspace, least float64, all, check bool) error {
	m := a.mover(w)
	if len(m.Landscape(ctx).Manifest.Pipeline.Lanes) < 2 {
		return fault.New(fault.Usage, "Lanes are declared in oaken.toml, under [[pipeline.lane]].",
			"Lookalikes are things of two lanes, and this project has fewer.")
	}
	list, err := m.Lookalikes(ctx, least, all)
	if err != nil {
		return err
	}
	open := 0
	for _, p := range list {
		if p.Distinct == nil {
			open++
		}
	}
	switch {
	case a.JSON:
		a.print(result.LookalikesOf(list))
	case len(list) == 0:
		a.Say("Nothing that the lanes have added looks alike.")
	default:
		a.showLookalikes(list)
	}
	if check && open > 0 {
		return &foundDifference{}
	}
	return nil
}

func (a *App) showLookalikes(list []pipeline.Lookalike) {
	var rows [][]screen.Cell
	for _, p := range list {
		score := screen.Warm.Cell(fmt.Sprintf("%.2f", p.Score))
		rows = append(rows, []screen.Cell{score, screen.Strong.Cell(p.One.Lane), screen.Plain.Cell(p.One.Address),
			screen.Faint.Cell(p.One.Holds)},
			[]screen.Cell{screen.Plain.Cell(""), screen.Strong.Cell(p.Other.Lane), screen.Plain.Cell(p.Other.Address),
				screen.Faint.Cell(p.Other.Holds)},
			[]screen.Cell{screen.Plain.Cell(""), screen.Plain.Cell(""), screen.Faint.Cell(strings.Join(p.Why, "; "))})
		if d := p.Distinct; d != nil {
			rows = append(rows, []screen.Cell{screen.Plain.Cell(""), screen.Plain.Cell(""),
				screen.Good.Cell("marked as distinct by " + d.Person + ": " + d.Reason)})
		}
	}
	a.Table(a.Out, "", rows)
}

func newLookalikesDistinct(a *App) *cobra.Command {
	var reason string
	var withdraw bool
	cmd := &cobra.Command{
		Use:   "distinct ADDRESS ADDRESS",
		Short: "Mark two elements as different things",
		Long: "Mark two elements as different things, however alike they look: they are not listed\n" +
			"any more. --withdraw takes the mark back.",
		Example: "  oaken lookalikes distinct database::table:tank/column:kind database::table:food/column:sort -m \"Of tanks, " +
			"and of food\"",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.TrimSpace(reason) == "" && !withdraw {
				return usage(cmd, "Say why with -m TEXT; it stays on the record.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if err := a.mover(w).MarkDistinct(cmd.Context(), args[0], args[1], reason, withdraw); err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Distinct{One: args[0], Other: args[1], Distinct: !withdraw})
					return nil
				}
				if withdraw {
					a.Say("The mark is taken back.")
				} else {
					a.Say("%s and %s are different things.", args[0], args[1])
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVarP(&reason, "message", "m", "", "why they are different, `TEXT`")
	cmd.Flags().BoolVar(&withdraw, "withdraw", false, "take the mark back")
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	return cmd
}
