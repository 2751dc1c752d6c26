package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/workspace"
)

func newConflicts(a *App) *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use:               "conflicts",
		Short:             "List what is open in the merge under way",
		Example:           "  oaken conflicts",
		GroupID:           groupBranches,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				p, open, err := w.Conflicts(cmd.Context())
				if err != nil {
					return err
				}
				switch {
				case a.json:
					a.printJSON(map[string]any{"schema": "oaken.conflicts/1", "conflicts": conflictRows(open)})
				case p == nil:
					a.say("Nothing is being merged.")
				case len(open) == 0:
					a.say("All conflicts of %s are settled. Finish it with oaken commit.", p.What)
				default:
					a.showConflicts(open)
				}
				if check && len(open) > 0 {
					return &foundDifference{}
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when a conflict is open")
	return cmd
}

type conflictRow struct {
	Address string   `json:"address"`
	Base    *string  `json:"base"`
	Mine    *string  `json:"mine"`
	Theirs  *string  `json:"theirs"`
	Keep    []string `json:"keep"`
}

func conflictRows(all []element.Conflict) []conflictRow {
	rows := []conflictRow{}
	for _, c := range all {
		r := conflictRow{c.Address.String(), sideText(c.Base), sideText(c.Mine), sideText(c.Theirs), nil}
		for _, k := range c.Allows {
			r.Keep = append(r.Keep, string(k))
		}
		rows = append(rows, r)
	}
	return rows
}

func sideText(s element.Side) *string {
	if s.Element == nil && s.Value.IsAbsent() {
		return nil
	}
	text := s.String()
	return &text
}

func (a *App) showConflicts(all []element.Conflict) {
	for _, c := range all {
		var keep []string
		for _, k := range c.Allows {
			keep = append(keep, string(k))
		}
		a.say("%s  %s", a.paint(bad, c.Address.String()), a.paint(faint, "keep "+strings.Join(keep, ", ")))
		a.say("    base    %s", oneLine(c.Base.String(), 100))
		a.say("    mine    %s", oneLine(c.Mine.String(), 100))
		a.say("    theirs  %s", oneLine(c.Theirs.String(), 100))
	}
}

func newResolve(a *App) *cobra.Command {
	var keep, value string
	cmd := &cobra.Command{
		Use:   "resolve ADDRESS",
		Short: "Settle a conflict",
		Long: `Settle the conflict at an address that oaken conflicts lists, or all conflicts of
an artifact or folder when ADDRESS is its path (. for all): keep this branch's side (mine), the other
(theirs), both, what was there before (base), or set another value.`,
		Example:           "  oaken resolve exhibit/reef.glb::node:Lamp.scale --keep theirs\n  oaken resolve exhibit/reef.glb::node:Lamp.scale --value \"1.1 1.1 1.1\"\n  oaken resolve database --keep mine",
		GroupID:           groupBranches,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeConflicts,
		RunE: func(cmd *cobra.Command, args []string) error {
			address, err := element.ParseAddress(args[0])
			if err != nil {
				return fault.New(fault.Usage, "oaken conflicts lists the addresses.", "That is no address: %w.", err)
			}
			choice := element.Keep(keep)
			switch {
			case cmd.Flags().Changed("value"):
				choice = element.KeepValue
			case choice != element.KeepMine && choice != element.KeepTheirs && choice != element.KeepBoth && choice != element.KeepBase:
				return usage(cmd, "--keep takes mine, theirs, both or base.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				settled, left, err := w.Resolve(cmd.Context(), address, choice, value)
				if err != nil {
					return err
				}
				if a.json {
					a.printJSON(map[string]any{"schema": "oaken.resolve/1", "settled": conflictRows(settled), "conflicts": conflictRows(left)})
					return nil
				}
				for _, c := range settled {
					a.say("%s  %s", c.Address, a.paint(good, settledText(c, choice, value)))
				}
				if len(left) > 0 {
					a.say("%s still open.", openConflicts(len(left)))
				} else {
					a.say("All conflicts are settled. Finish with oaken commit.")
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "keep `SIDE`: mine, theirs, both or base")
	cmd.Flags().StringVar(&value, "value", "", "set the property to `V`")
	cmd.MarkFlagsMutuallyExclusive("keep", "value")
	cmd.MarkFlagsOneRequired("keep", "value")
	_ = cmd.RegisterFlagCompletionFunc("keep", cobra.FixedCompletions([]string{"mine", "theirs", "both", "base"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func settledText(c element.Conflict, keep element.Keep, value string) string {
	side := map[element.Keep]element.Side{element.KeepMine: c.Mine, element.KeepTheirs: c.Theirs, element.KeepBase: c.Base}
	switch keep {
	case element.KeepValue:
		return "settled: " + value
	case element.KeepBoth:
		return "settled: both"
	}
	return fmt.Sprintf("settled: %s, %s", keep, oneLine(side[keep].String(), valueWidth))
}
