package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
	"oakenchest/page"
)

func newConflicts(a *App) *cobra.Command {
	var check bool
	var html, to, from string
	cmd := &cobra.Command{
		Use:   "conflicts",
		Short: "List what is open in the merge under way",
		Long: "List what is open in the merge under way: at each address what was there before, and\n" +
			"what the two sides made of it. --html makes one page of it, with everything else that\n" +
			"differs between the sides of those artifacts. --to lists what is open in the promotion\n" +
			"into an environment that is being settled: mine is what its branch has.",
		Example:           "  oaken conflicts\n  oaken conflicts --html conflicts.html\n  oaken conflicts --to test",
		GroupID:           groupBranches,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				c, err := a.clashOf(cmd.Context(), w, to, from)
				if err != nil {
					return err
				}
				switch {
				case html != "" && !c.none:
					if err := a.drawConflicts(cmd.Context(), w, c, html); err != nil {
						return err
					}
				case a.JSON:
					a.print(result.Conflicts{Conflicts: result.ConflictsOf(c.open)})
				case c.none:
					a.Say("Nothing is being merged.")
				case len(c.open) == 0:
					a.Say("All conflicts of %s are settled. %s", c.what, c.finish)
				default:
					a.showConflicts(c.open)
				}
				if check && len(c.open) > 0 {
					return &foundDifference{}
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when a conflict is open")
	cmd.Flags().StringVar(&html, "html", "", "draw them on one page, in `FILE`")
	a.clashFlags(cmd, &to, &from)
	return cmd
}

// drawConflicts makes a page of what is open.
func (a *App) drawConflicts(ctx context.Context, w *workspace.Workspace, clash *clash, file string) error {
	open := clash.open
	mine, theirs, err := clash.sides()
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
	p.AddConflicts(open, clash.options, func(path string) string {
		for _, d := range c.diffs {
			if d.Path == path {
				return d.Kind
			}
		}
		return ""
	})
	return a.writePage(p, len(paths), file)
}

func (a *App) showConflicts(all []element.Conflict) {
	for _, c := range all {
		var keep []string
		for _, k := range c.Allows {
			keep = append(keep, string(k))
		}
		a.Say("%s  %s", a.Paint(screen.Bad, c.Address.String()), a.Paint(screen.Faint, "keep "+strings.Join(keep, ", ")))
		a.Table(a.Out, "    ", sideRows(c, "base", "mine", "theirs"))
	}
}

func newResolve(a *App) *cobra.Command {
	var keep, value, to, from string
	var edit bool
	cmd := &cobra.Command{
		Use:   "resolve [ADDRESS]",
		Short: "Settle a conflict",
		Long: `Settle the conflict at an address that oaken conflicts lists, or all conflicts of
an artifact or folder when ADDRESS is its path (. for all), or all that fit a pattern
with * and **: keep this branch's side (mine), the other (theirs), both, what was there
before (base), or set another value; --edit opens a text in your editor, with both sides.
On a terminal, without an address, all are settled in a list that shows both sides.
--to settles what is open in the promotion into an environment (oaken promote --settle):
mine is what its branch has.`,
		Example: "  oaken resolve exhibit/reef.glb::node:Lamp.scale --keep theirs\n" +
			"  oaken resolve exhibit/reef.glb::node:Lamp.scale --value \"1.1 1.1 1.1\"\n  oaken resolve database --keep mine\n" +
			"  oaken resolve '**::node:*.scale' --keep theirs\n  oaken resolve . --to test --keep theirs\n  oaken resolve",
		GroupID:           groupBranches,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeConflicts,
		RunE: func(cmd *cobra.Command, args []string) error {
			choice := element.Keep(keep)
			written := cmd.Flags().Changed("value")
			switch {
			case len(args) == 0 && (keep != "" || written || edit || a.Keys == nil || a.JSON):
				return usage(cmd, "Name an address, a path or a pattern; . stands for all. On a terminal, oaken resolve alone shows a list.")
			case written:
				choice = element.KeepValue
			case len(args) > 0 && !edit &&
				!slices.Contains([]element.Keep{element.KeepMine, element.KeepTheirs, element.KeepBoth, element.KeepBase}, choice):
				return usage(cmd, "--keep takes mine, theirs, both or base.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				c, err := a.clashOf(cmd.Context(), w, to, from)
				switch {
				case err != nil:
					return err
				case len(args) == 0:
					return a.pickConflicts(cmd.Context(), c)
				case edit:
					return a.editConflict(cmd.Context(), c, args[0])
				}
				return a.resolve(cmd.Context(), c, args[0], choice, value)
			})
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "keep `SIDE`: mine, theirs, both or base")
	cmd.Flags().StringVar(&value, "value", "", "set the property to `V`")
	cmd.Flags().BoolVar(&edit, "edit", false, "write the text in your editor")
	a.clashFlags(cmd, &to, &from)
	cmd.MarkFlagsMutuallyExclusive("keep", "value", "edit")
	_ = cmd.RegisterFlagCompletionFunc("keep", cobra.FixedCompletions([]string{"mine", "theirs", "both", "base"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// clashFlags let a command look at a promotion that is being settled.
func (a *App) clashFlags(cmd *cobra.Command, to, from *string) {
	cmd.Flags().StringVar(to, "to", "", "of the promotion into `ENV` that is being settled")
	cmd.Flags().StringVar(from, "from", "", "where that comes from, `ENV`, if there are several")
	_ = cmd.RegisterFlagCompletionFunc("to", a.completeEnvironments)
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
}

func (a *App) resolve(ctx context.Context, c *clash, text string, keep element.Keep, value string) error {
	settled, left, err := c.resolve(ctx, text, keep, value)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Resolved{Settled: result.ConflictsOf(settled), Conflicts: result.ConflictsOf(left)})
		return nil
	}
	for _, x := range settled {
		a.Say("%s  %s", x.Address, a.Paint(screen.Good, settledText(x, keep, value)))
	}
	a.sayLeft(left, c)
	return nil
}

// divider parts the text that is being settled from what is there to look at.
const divider = "――――― from this line on nothing is part of the text ―――――"

// editConflict lets a person write what a text comes to.
func (a *App) editConflict(ctx context.Context, clash *clash, text string) error {
	if a.Edit == nil {
		return fault.New(fault.Usage, "Use --value V, or run it in a terminal.", "There is no terminal to edit in.")
	}
	open := clash.open
	i := slices.IndexFunc(open, func(c element.Conflict) bool { return c.Address.String() == text })
	if i < 0 {
		return fault.New(fault.Usage, "oaken conflicts lists the addresses that are open.", "No conflict is open at %s.", text)
	}
	c := open[i]
	if !slices.Contains(c.Allows, element.KeepValue) {
		return fault.New(fault.Usage, "Use --keep with one of the sides that oaken conflicts names.",
			"%s is no text that could be written.", text)
	}
	written, err := a.Edit(sideFull(c.Mine) + "\n" + divider + "\n\nmine\n" + sideFull(c.Mine) + "\n\ntheirs\n" + sideFull(c.Theirs) +
		"\n\nbefore\n" + sideFull(c.Base) + "\n")
	if err != nil {
		return fault.New(fault.Failed, "Nothing was settled. Use --value V, or set EDITOR to another program.",
			"The editor failed: %w.", err)
	}
	value, _, _ := strings.Cut(written, divider)
	value = strings.TrimSuffix(strings.TrimSuffix(value, "\n"), "\r")
	left, err := clash.decide(ctx, []workspace.Decision{{Conflict: c, Keep: element.KeepValue, Value: value}})
	if err != nil {
		return err
	}
	a.Say("%s  %s", c.Address, a.Paint(screen.Good, "settled: "+screen.OneLine(value, valueWidth)))
	a.sayLeft(left, clash)
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
	return fmt.Sprintf("settled: %s, %s", keep, screen.OneLine(side[keep].String(), valueWidth))
}
