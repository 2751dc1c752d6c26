package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/core/workspace"
)

func newRestore(a *App) *cobra.Command {
	var from, to string
	cmd := &cobra.Command{
		Use:   "restore PATH...",
		Short: "Bring paths back as they are in another state",
		Long: `Bring files or folders back, byte for byte, as a state has them: in place, or
below a folder named with --to. In place, what is overwritten is kept as a rescue
copy. The path . stands for everything.`,
		Example:           "  oaken restore exhibit/reef.glb --from main:2\n  oaken restore . --from release:spring --to ../spring",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				s, err := a.stateOf(cmd.Context(), w, from)
				if err != nil {
					return err
				}
				paths, err := a.projectPaths(w, args)
				if err != nil {
					return err
				}
				if to != "" {
					to = a.at(to)
				}
				r, err := w.Restore(cmd.Context(), paths, s, to)
				if err != nil {
					return err
				}
				if a.json {
					a.printJSON(map[string]any{"schema": "oaken.restore/1", "from": from, "paths": append([]string{}, r.Paths...), "rescued": r.Rescued})
					return nil
				}
				switch {
				case len(r.Paths) == 0:
					a.say("Everything named is as it is in %s already.", from)
				case to != "":
					a.say("%s from %s placed in %s.", count(len(r.Paths), "file"), from, to)
				default:
					a.say("%s as in %s again.", count(len(r.Paths), "file"), from)
				}
				if r.Rescued != "" {
					a.say("  What was there is kept in %s.", r.Rescued)
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "the `STATE` to bring back")
	cmd.Flags().StringVar(&to, "to", "", "place the files below `FOLDER`, which must not hold them")
	_ = cmd.MarkFlagRequired("from")
	_ = cmd.MarkFlagDirname("to")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeStates)
	return cmd
}
