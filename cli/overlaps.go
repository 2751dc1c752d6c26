package cli

import (
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/overlap"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// lookedInto is how many overlaps are looked into, and listed, unless all are asked for.
const lookedInto = 25

func newOverlaps(a *App) *cobra.Command {
	var all, check bool
	cmd := &cobra.Command{
		Use:   "overlaps [PATH...]",
		Short: "List what several people are changing at once",
		Long: `List the artifacts that several branches have changed since they parted, or that are
edited in a workspace and changed elsewhere, the worst first: what can't be merged,
what clashes at the same element, and what a merge would combine by itself. Of each
it is told who did what, where. Without --all the first ones are looked into.`,
		Example:           "  oaken overlaps\n  oaken overlaps exhibit --all\n  oaken overlaps --check && echo nobody is in the way",
		GroupID:           groupBranches,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				paths, err := a.asked(w).Paths(args)
				if err != nil {
					return err
				}
				if s, err := w.Changes(cmd.Context()); err == nil {
					_ = w.AnnounceStatus(cmd.Context(), s)
				}
				look := lookedInto
				if all {
					look = 1 << 30
				}
				list, err := w.Overlaps(cmd.Context(), paths, look)
				if err != nil {
					return err
				}
				switch {
				case a.JSON:
					a.print(result.Overlaps{Overlaps: result.OverlapsOf(list)})
				case len(list) == 0:
					a.Say("Nobody is changing the same things.")
				default:
					for _, o := range list[:min(len(list), look)] {
						a.showOverlap(o, "")
					}
					if n := len(list) - look; n > 0 {
						a.Note("… and %s, not looked into; name a path, or add --all.", screen.Count(n, "more artifact"))
					}
				}
				if check && len(list) > 0 {
					return &foundDifference{}
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "look into all of them")
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when there are any")
	return cmd
}

var verdicts = map[overlap.Verdict]struct {
	text string
	tone screen.Tone
}{
	overlap.Exclusive: {"can't be merged: one side will be lost", screen.Bad},
	overlap.Clashing:  {"clashes", screen.Bad},
	overlap.Unknown:   {"not looked into", screen.Faint},
	overlap.Apart:     {"they meet nowhere, no merge was tried", screen.Good},
	overlap.Combining: {"a merge combines them", screen.Good},
	overlap.Elsewhere: {"changed elsewhere", screen.Warm},
}

// shownChanges is how many changes of a side are shown.
const shownChanges = 4

func (a *App) showOverlap(o overlap.Overlap, indent string) {
	v := verdicts[o.Verdict]
	a.Say("%s%s  %s  %s", indent, a.Paint(screen.Strong, o.Path), a.Paint(screen.Faint, o.Kind), a.Paint(v.tone, v.text))
	for _, s := range o.Sides {
		where := "on " + s.Branch
		switch {
		case s.Workspace != "":
			where += ", edited in " + s.Workspace + ", not committed"
		case s.State != "":
			where += ", " + s.State
		}
		a.Say("%s  %s  %s", indent, a.Paint(screen.Strong, s.Person), a.Paint(screen.Faint, where+", "+screen.Clock(s.Time)))
		for _, t := range s.Told[:min(len(s.Told), shownChanges)] {
			tone := screen.Plain
			for _, c := range o.Clashes {
				if c == t.Address {
					tone = screen.Bad
				}
			}
			at := strings.TrimPrefix(t.Address, o.Path+"::")
			text := toldText(t)
			if a.Width > 0 { // on one line of the terminal
				text = runewidth.Truncate(text, max(a.Width-len(indent)-6-runewidth.StringWidth(at), 20), " …")
			}
			a.Say("%s    %s  %s", indent, a.Paint(tone, at), text)
		}
		if n := len(s.Told) - shownChanges + s.More; len(s.Told) > shownChanges || s.More > 0 {
			a.Say("%s    … and %s", indent, screen.Count(n, "more change"))
		}
	}
}

func toldText(t overlap.Told) string {
	switch {
	case t.Note != "":
		return t.Note
	case t.Change == string(element.Edited) || t.Change == string(element.Moved) || t.Change == string(element.Renamed):
		text := screen.OneLine(orNothing(t.From), 60) + " → " + screen.OneLine(orNothing(t.To), 60)
		if t.Change != string(element.Edited) {
			return t.Change + " " + text
		}
		return text
	case t.To != "":
		return t.Change + ": " + screen.OneLine(t.To, 80)
	}
	return t.Change
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// showWarnings tells, of what a call is about, who else has changed it.
func (a *App) showWarnings(list []overlap.Overlap) {
	if len(list) == 0 || a.Quiet {
		return
	}
	a.Say("%s", a.Paint(screen.Warm, "Also changed by others"))
	const most = 5
	for _, o := range list[:min(len(list), most)] {
		a.showOverlap(o, "  ")
	}
	if n := len(list) - most; n > 0 {
		a.Say("  … and %s; oaken overlaps lists them.", screen.Count(n, "more artifact"))
	}
}
