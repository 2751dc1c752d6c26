package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/ledger"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newShow(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:               "show COMMIT",
		Short:             "Show a commit: who, when, why, and what it changed",
		Example:           "  oaken show main:12\n  oaken show release:spring",
		GroupID:           groupDaily,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeStates,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				c, err := a.asked(w).Commit(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				var before ledger.Commit
				if len(c.Parents) > 0 {
					if before, err = w.Chest.Resolve(cmd.Context(), c.Parents[0].String()); err != nil {
						return err
					}
				}
				diffs, err := w.Reader().Compare(cmd.Context(), w.CommitState(before, workspace.Label(before)),
					w.CommitState(c, workspace.Label(c)), nil)
				if err != nil {
					return err
				}
				deed, err := w.Chest.DeedOf(cmd.Context(), c.ID)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Shown{Commit: result.CommitOf(c), Picks: result.OptionalCommit(deed.Picks),
						Takes: result.CommitsOf(deed.Takes), Changes: result.ChangesOf(diffs)})
					return nil
				}
				a.Say("%s  %s", a.Paint(screen.Strong, workspace.Label(c)), a.Paint(screen.Faint, c.ID.String()))
				a.Say("%s in %s, %s", c.Author, c.Workspace, screen.Clock(c.Time))
				if len(c.Parents) == 2 {
					if other, err := w.Chest.Resolve(cmd.Context(), c.Parents[1].String()); err == nil {
						a.Say("brings in %s", workspace.Label(other))
					}
				}
				if deed.Picks != nil {
					a.Say("does again what %s did", workspace.Label(*deed.Picks))
				}
				if len(deed.Takes) > 0 {
					a.Say("takes back %s", labelsOf(deed.Takes, 5))
				}
				if c.Item != "" {
					a.Say("for %s", c.Item)
				}
				a.Say("\n  %s\n", strings.ReplaceAll(c.Message, "\n", "\n  "))
				a.showDifferences(diffs, false)
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&a.All, "all", false, "show each change in its line, and addresses whole")
	return cmd
}
