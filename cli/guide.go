package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newGuide(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "guide",
		Short: "Say what to do next, here and now",
		Long: `Say in at most three lines what to do next in this workspace, the most urgent first:
a merge that is under way, what is unsent or newer, what was edited, which environments
lack work. Where no workspace is, how to begin.`,
		Example:           "  oaken guide",
		GroupID:           groupStart,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if workspace.Above(a.folder()) == "" {
				a.showGuide(service.GuideOutside())
				return nil
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				g, err := service.Guide(cmd.Context(), w, a.mover(w))
				if err == nil {
					a.showGuide(g)
				}
				return err
			})
		},
	}
}

func (a *App) showGuide(g result.Guide) {
	if a.JSON {
		a.print(g)
		return
	}
	for _, x := range g.Advice {
		a.Say("%s: %s", x.Text, a.Paint(screen.Strong, x.Command))
	}
}
