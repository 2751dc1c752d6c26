package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/workspace"
	"oakenchest/page"
)

func newConflicts(a *App) *cobra.Command {
	var check bool
	var html string
	cmd := &cobra.Command{
		Use:               "conflicts",
		Short:             "List what is open in the merge under way",
		Long:              "List what is open in the merge under way: at each address what was there before, and\nwhat the two sides made of it. --html makes one page of it, with everything else that\ndiffers between the sides of those artifacts.",
		Example:           "  oaken conflicts\n  oaken conflicts --html conflicts.html",
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
				case html != "" && p != nil:
					if err := a.drawConflicts(cmd.Context(), w, open, html); err != nil {
						return err
					}
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
	cmd.Flags().StringVar(&html, "html", "", "draw them on one page, in `FILE`")
	return cmd
}

// drawConflicts makes a page of what is open.
func (a *App) drawConflicts(ctx context.Context, w *workspace.Workspace, open []element.Conflict, file string) error {
	mine, theirs, err := w.MergeSides()
	if err != nil {
		return err
	}
	var paths []string
	for _, c := range open {
		if !slices.Contains(paths, c.Address.Path) {
			paths = append(paths, c.Address.Path)
		}
	}
	p := page.New("mine", "theirs")
	c := &comparison{reader: w.Reader(), from: mine, to: theirs}
	if len(paths) > 0 {
		if c.diffs, err = c.reader.Compare(ctx, mine, theirs, paths); err != nil {
			return err
		}
	}
	for _, d := range c.diffs {
		was, is, err := c.reader.Versions(ctx, mine, theirs, d)
		if err != nil {
			return err
		}
		p.Add(page.Artifact{Difference: d, Was: was, Is: is})
	}
	p.AddConflicts(open, func(path string) string {
		for _, d := range c.diffs {
			if d.Path == path {
				return d.Kind
			}
		}
		return ""
	})
	return a.writePage(p, len(paths), file)
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
	var edit bool
	cmd := &cobra.Command{
		Use:   "resolve [ADDRESS]",
		Short: "Settle a conflict",
		Long: `Settle the conflict at an address that oaken conflicts lists, or all conflicts of
an artifact or folder when ADDRESS is its path (. for all), or all that fit a pattern
with * and **: keep this branch's side (mine), the other (theirs), both, what was there
before (base), or set another value; --edit opens a text in your editor, with both sides.
On a terminal, without an address, all are settled in a list that shows both sides.`,
		Example:           "  oaken resolve exhibit/reef.glb::node:Lamp.scale --keep theirs\n  oaken resolve exhibit/reef.glb::node:Lamp.scale --value \"1.1 1.1 1.1\"\n  oaken resolve database --keep mine\n  oaken resolve '**::node:*.scale' --keep theirs\n  oaken resolve",
		GroupID:           groupBranches,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeConflicts,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				if keep != "" || cmd.Flags().Changed("value") || edit || a.Keys == nil || a.json {
					return usage(cmd, "Name an address, a path or a pattern; . stands for all. On a terminal, oaken resolve alone shows a list.")
				}
				return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.pickConflicts(cmd.Context(), w) })
			}
			if edit {
				return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.editConflict(cmd.Context(), w, args[0]) })
			}
			choice := element.Keep(keep)
			switch {
			case cmd.Flags().Changed("value"):
				choice = element.KeepValue
			case choice != element.KeepMine && choice != element.KeepTheirs && choice != element.KeepBoth && choice != element.KeepBase:
				return usage(cmd, "--keep takes mine, theirs, both or base.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				settled, left, err := w.Resolve(cmd.Context(), args[0], choice, value)
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
				a.sayLeft(left)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "keep `SIDE`: mine, theirs, both or base")
	cmd.Flags().StringVar(&value, "value", "", "set the property to `V`")
	cmd.Flags().BoolVar(&edit, "edit", false, "write the text in your editor")
	cmd.MarkFlagsMutuallyExclusive("keep", "value", "edit")
	_ = cmd.RegisterFlagCompletionFunc("keep", cobra.FixedCompletions([]string{"mine", "theirs", "both", "base"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// sayLeft says how many conflicts are open.
func (a *App) sayLeft(left []element.Conflict) {
	if len(left) > 0 {
		a.say("%s still open.", openConflicts(len(left)))
		return
	}
	a.say("All conflicts are settled. Finish with oaken commit.")
}

// divider parts the text that is being settled from what is there to look at.
const divider = "――――― from this line on nothing is part of the text ―――――"

// editConflict lets a person write what a text comes to.
func (a *App) editConflict(ctx context.Context, w *workspace.Workspace, text string) error {
	if a.Edit == nil {
		return fault.New(fault.Usage, "Use --value V, or run it in a terminal.", "There is no terminal to edit in.")
	}
	_, open, err := w.Conflicts(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(open, func(c element.Conflict) bool { return c.Address.String() == text })
	if i < 0 {
		return fault.New(fault.Usage, "oaken conflicts lists the addresses that are open.", "No conflict is open at %s.", text)
	}
	c := open[i]
	if !slices.Contains(c.Allows, element.KeepValue) {
		return fault.New(fault.Usage, "Use --keep with one of the sides that oaken conflicts names.", "%s is no text that could be written.", text)
	}
	written, err := a.Edit(sideFull(c.Mine) + "\n" + divider + "\n\nmine\n" + sideFull(c.Mine) + "\n\ntheirs\n" + sideFull(c.Theirs) + "\n\nbefore\n" + sideFull(c.Base) + "\n")
	if err != nil {
		return fault.New(fault.Failed, "Nothing was settled. Use --value V, or set EDITOR to another program.", "The editor failed: %w.", err)
	}
	value, _, _ := strings.Cut(written, divider)
	value = strings.TrimSuffix(strings.TrimSuffix(value, "\n"), "\r")
	left, err := w.Decide(ctx, []workspace.Decision{{Conflict: c, Keep: element.KeepValue, Value: value}})
	if err != nil {
		return err
	}
	a.say("%s  %s", c.Address, a.paint(good, "settled: "+oneLine(value, valueWidth)))
	a.sayLeft(left)
	return nil
}

// sideFull writes a side whole.
func sideFull(s element.Side) string {
	if s.Element == nil && !s.Value.IsAbsent() {
		return s.Value.Text()
	}
	return s.String()
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
