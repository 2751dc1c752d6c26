package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

func newMerge(a *App) *cobra.Command {
	var message string
	var abandon, dryRun bool
	cmd := &cobra.Command{
		Use:   "merge STATE",
		Short: "Bring the work of another branch into this one",
		Long: `Bring the work of another branch into this one. Changes to different elements
combine by themselves, also inside one artifact, and the result is committed.
What both sides changed differently is a conflict: the workspace then holds this
branch's version, oaken conflicts lists what is open, oaken resolve settles it,
and oaken commit completes the merge. --abandon gives it up at any time. --dry-run
says what would happen.`,
		Example:           "  oaken merge kelp\n  oaken merge kelp --dry-run\n  oaken merge --abandon",
		GroupID:           groupBranches,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeBranches,
		RunE: func(cmd *cobra.Command, args []string) error {
			if abandon == (len(args) == 1) {
				return usage(cmd, "Name one state to merge, or give --abandon alone.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if abandon {
					return a.abandon(cmd, w)
				}
				c, err := a.asked(w).Commit(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if dryRun {
					m, err := w.Foresee(cmd.Context(), c, args[0])
					if err != nil {
						return err
					}
					return a.showForeseen(w, m, args[0])
				}
				r, err := w.Merge(cmd.Context(), c, args[0], message)
				if err != nil {
					return err
				}
				defer func() {
					if r.Committed != nil {
						a.tellBehind(cmd.Context(), w)
					}
				}()
				return a.showMerged(w, r, "merge", args[0])
			})
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "the commit's message: `TEXT`")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would happen, and change nothing")
	cmd.Flags().BoolVar(&abandon, "abandon", false, "give up the merge under way and restore what it found")
	cmd.MarkFlagsMutuallyExclusive("dry-run", "abandon")
	return cmd
}

func (a *App) abandon(cmd *cobra.Command, w *workspace.Workspace) error {
	p, kept, err := w.Abandon(cmd.Context())
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Merged{Conflicts: []result.Conflict{}, Merged: []string{}, Unread: map[string]string{}, Abandoned: p.What,
			Rescued: &kept})
		return nil
	}
	a.Say("Gave up %s; the workspace is at %s again.", p.What, workspace.Label(w.Base))
	if kept != "" {
		a.Say("  What you edited since is kept in %s.", kept)
	}
	return nil
}

// showForeseen tells what a merge would come to. Conflicts give status 3.
func (a *App) showForeseen(w *workspace.Workspace, m *state.Merged, of string) error {
	if m == nil {
		m = &state.Merged{}
	}
	if a.JSON {
		a.print(result.ForeseenOf(m))
		if len(m.Conflicts) > 0 {
			return &conflictsRemain{}
		}
		return nil
	}
	if len(m.Edits)+len(m.Conflicts) == 0 {
		a.Say("Everything of %s is in %s already.", of, w.Branch)
		return nil
	}
	var rows [][]screen.Cell
	for _, e := range m.Edits {
		what, t := "taken from "+of, screen.Plain
		switch {
		case e.Gone:
			what, t = "goes", screen.Bad
		case e.Take.Mode == 0:
			what, t = "combined by element", screen.Good
		}
		rows = append(rows, []screen.Cell{t.Cell(what), screen.Plain.Cell(e.Path)})
	}
	if len(rows) > 0 {
		a.Say("Merging %s into %s would change %s:", of, w.Branch, screen.Count(len(m.Edits), "file"))
		a.Table(a.Out, "  ", rows)
	}
	if len(m.Conflicts) == 0 {
		a.Say("Nothing would be in conflict.")
		return nil
	}
	a.showConflicts(m.Conflicts)
	return fault.New(fault.Conflict, "oaken merge "+fault.Word(of)+" begins it; each is then settled with oaken resolve.",
		"%s would be open; nothing was changed.", screen.Count(len(m.Conflicts), "conflict"))
}

// showMerged tells how a merge or revert came out. Conflicts give status 3.
func (a *App) showMerged(w *workspace.Workspace, r *workspace.MergeResult, what, of string) error {
	if a.JSON {
		out := result.Merged{UpToDate: r.UpToDate, Conflicts: result.ConflictsOf(r.Conflicts), Merged: result.PathsOf(r.Artifacts),
			Unread: result.UnreadOf(r.Artifacts)}
		if r.Committed != nil {
			out.Commit = result.OptionalCommit(&r.Committed.Commit)
		}
		a.print(out)
		if len(r.Conflicts) > 0 {
			return &conflictsRemain{}
		}
		return nil
	}
	switch {
	case r.UpToDate && what == "revert":
		a.Say("What %s did is undone already.", of)
	case r.UpToDate:
		a.Say("Everything of %s is in %s already.", of, w.Branch)
	case r.Committed != nil:
		a.showCommitted(w, r.Committed)
		a.showCombined("combined by element", r.Artifacts)
	default:
		return a.conflictsOpen(r.Conflicts)
	}
	return nil
}

// showCombined tells which artifacts were combined, and of which no engine has read what
// they came to.
func (a *App) showCombined(how string, list []state.Combined) {
	for _, c := range list {
		a.Say("  %s: %s", how, c.Path)
		if c.Unread != "" {
			a.Say("    %s has not read it as it is now; a deployment lets it", c.Unread)
		}
	}
}

// conflictsOpen shows conflicts and says what to do about them.
func (a *App) conflictsOpen(list []element.Conflict) error {
	a.showConflicts(list)
	return fault.New(fault.Conflict,
		"Settle each with oaken resolve ADDRESS --keep SIDE or --value V, then oaken commit; or give up with oaken merge --abandon.",
		"%s open; the workspace holds this branch's version.", openConflicts(len(list)))
}

func openConflicts(n int) string {
	if n == 1 {
		return "1 conflict is"
	}
	return screen.Count(n, "conflict") + " are"
}

// conflictsRemain ends a call with status 3 when its output has said why.
type conflictsRemain struct{}

func (*conflictsRemain) Error() string { return "conflicts remain" }

func newRevert(a *App) *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use:   "revert COMMIT",
		Short: "Undo one commit by a new one",
		Long: `Undo what one commit did, by a new commit; everything after it stays. Where later
work changed the same things, there are conflicts, as in a merge.`,
		Example:           "  oaken revert main:7",
		GroupID:           groupDaily,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeStates,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				c, err := a.asked(w).Commit(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				r, err := w.Revert(cmd.Context(), c, message)
				if err != nil {
					return err
				}
				return a.showMerged(w, r, "revert", workspace.Label(c))
			})
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "the commit's message: `TEXT`")
	return cmd
}
