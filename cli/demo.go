package cli

import "github.com/spf13/cobra"

func newDemo(a *App) *cobra.Command {
	return &cobra.Command{Use: "demo [FOLDER]", Short: "Play the whole story", Example: "  oaken demo", GroupID: groupStart, Args: cobra.MaximumNArgs(1), ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error { return nil }}
}
