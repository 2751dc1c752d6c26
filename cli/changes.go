package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/ledger"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newChanges(a *App) *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use:   "changes [PATH...]",
		Short: "List what changed in this workspace",
		Long: `List what changed in this workspace since the commit that it stands on, what waits to
come in and to go out, what others hold, and who else has changed the same things on
another branch or is changing them now. What is listed is what oaken commit records; there is no step
between, but for what recipes call noise: it is stored too, and not listed. oaken
compare shows what is different inside each artifact. With paths, only what lies there.`,
		Example:           "  oaken changes\n  oaken changes exhibit\n  oaken changes --check && echo nothing changed",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				paths, err := a.asked(w).Paths(args)
				if err != nil {
					return err
				}
				c, err := a.asked(w).Changes(cmd.Context(), paths, a.Now())
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(c.Result())
				} else {
					a.showChanges(c)
					a.tellCaptured(w)
					a.tellBehind(cmd.Context(), w)
				}
				if check && len(c.Told()) > 0 {
					return &foundDifference{}
				}
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&a.All, "all", false, "show each file that moved with its folder in its line")
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when something changed")
	return cmd
}

func differ(n int) string {
	if n == 1 {
		return " differs"
	}
	return " differ"
}

// isAre writes a number with its noun and verb.
func isAre(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return screen.Count(n, noun) + " are"
}

// stateWord is the word for what became of a file.
func stateWord(c workspace.Change) string { return string(c.State) }

var stateTones = map[workspace.FileState]screen.Tone{workspace.New: screen.Good, workspace.Edited: screen.Warm, workspace.Gone: screen.Bad,
	workspace.Moved:     screen.Warm,
	workspace.Contested: screen.Bad}

func (a *App) showChanges(c *service.Changes) {
	w, s, p, open := c.Workspace, c.Status, c.UnderWay, len(c.Open)
	a.Say("%s", a.Paint(screen.Faint, fmt.Sprintf("%s in %s, on %s", w.Person, w.Name, standing(w))))
	if w.Offline {
		a.Say("%s", a.Paint(screen.Warm,
			"The chest is out of reach: what is committed stays here, unsent, and nothing is known of others."))
	}
	if only := w.Only(); len(only) > 0 {
		a.Say("%s", a.Paint(screen.Faint, "a part of the project: "+strings.Join(only, ", ")))
	}
	if s.Newer > 0 {
		a.Say("Branch %s has %s not yet here; oaken sync brings them.", w.Branch, screen.Count(s.Newer, "newer commit"))
	}
	if len(s.Waiting) > 0 {
		a.Say("%s unsent; oaken sync publishes.", isAre(len(s.Waiting), "commit"))
		for _, h := range s.Waiting {
			a.Say("  %s  %s", a.Paint(screen.Faint, screen.Clock(h.Time)), screen.OneLine(screen.FirstLine(h.Message), 80))
		}
	}
	if p != nil {
		if open > 0 {
			a.Say("Under way: %s, with %s open. See oaken conflicts.", p.What, screen.Count(open, "conflict"))
		} else {
			a.Say("Under way: %s, all settled. Finish it with oaken commit.", p.What)
		}
	}
	shown := c.Told()
	if len(shown) == 0 {
		a.Say("Nothing has changed.")
	}
	var moves [][2]string
	for _, c := range shown {
		if c.From != "" && c.Holder == "" {
			moves = append(moves, [2]string{c.From, c.Path})
		}
	}
	renamed := gatherRenames(moves)
	var rows [][]screen.Cell
	for _, c := range shown {
		if from, to := renamedFolder(c.From, c.Path); c.From != "" && c.Holder == "" && !a.All {
			if n, along := renamed[[2]string{from, to}]; along {
				if n > 0 {
					rows = append(rows, []screen.Cell{stateTones[c.State].Cell(stateWord(c)),
						screen.Plain.Cell(shownFolder(from) + " → " + shownFolder(to)),
						screen.Faint.Cell("folder"), screen.Plain.Cell(screen.Count(n, "file"))})
				}
				renamed[[2]string{from, to}] = 0
				continue
			}
		}
		name := c.Path
		if c.From != "" {
			name = c.From + " → " + c.Path
		}
		note := ""
		if c.Why != "" && !slices.ContainsFunc(s.Unreadable, func(u workspace.Unreadable) bool { return u.Path == c.Path }) {
			note = result.UnreadNote(c.Kind, c.Why)
		}
		if c.Holder != "" {
			note = "its lock is held by " + c.Holder
		}
		if c.State == workspace.Contested && c.Holder == "" {
			note = "edited without its lock, which is free: oaken lock takes it"
		}
		rows = append(rows, []screen.Cell{stateTones[c.State].Cell(stateWord(c)), screen.Plain.Cell(name), screen.Faint.Cell(c.Kind),
			screen.Warm.Cell(note)})
	}
	a.Table(a.Out, "  ", rows)
	for _, u := range s.Unreadable {
		a.Say("  %s", a.Paint(screen.Bad, u.String()))
	}
	if n := len(s.Changes) - len(shown); n > 0 {
		a.Note("%s only in what recipes call noise; the next commit stores that too.", screen.Count(n, "file")+differ(n))
	}
	a.showLocksIn("Locked by you", s.Mine, &c.Judge, c.Crowd)
	a.showLocksIn("Held by others", s.Held, &c.Judge, c.Crowd)
	a.showWarnings(c.Warnings)
}

// standing says where the workspace stands: `main:3`, or the branch alone.
func standing(w *workspace.Workspace) string {
	switch {
	case w.Base.ID == ledger.ID{}:
		return w.Branch + ", before its first commit"
	case w.Base.Branch == w.Branch:
		return workspace.Label(w.Base)
	}
	return w.Branch + ", at " + workspace.Label(w.Base)
}
