package cli

import (
	"path/filepath"

	"github.com/spf13/cobra"

	"oakenchest/core/workspace"
)

func newBegin(a *App) *cobra.Command {
	var o workspace.BeginOptions
	cmd := &cobra.Command{
		Use:   "begin [FOLDER]",
		Short: "Put a folder under control",
		Long: `Put a folder under control: its history begins here. The folder's files stay as
they are; oaken.toml is added, where the project says what it consists of. The
chest, which keeps every version, lies inside the folder unless --chest names
another place.`,
		Example:           "  oaken begin\n  oaken begin exhibit --chest /shared/chests/exhibit",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := a.folder()
			if len(args) == 1 {
				folder = a.at(args[0])
			}
			o.Person = a.as
			if o.Chest != "" {
				o.Chest = a.at(o.Chest)
			}
			w, err := workspace.Begin(cmd.Context(), a.host(), folder, o)
			if err != nil {
				return err
			}
			defer w.Close()
			return a.showBegun(cmd, w)
		},
	}
	cmd.Flags().StringVar(&o.Chest, "chest", "", "keep the chest in the folder `LOCATION`")
	_ = cmd.MarkFlagDirname("chest")
	return cmd
}

func (a *App) showBegun(cmd *cobra.Command, w *workspace.Workspace) error {
	n, err := w.Count(cmd.Context())
	if err != nil {
		return err
	}
	if a.json {
		a.printJSON(map[string]any{"schema": "oaken.begin/1", "folder": w.Root, "workspace": w.Name, "person": w.Person, "chest": w.Chest.Dir, "waiting": n})
		return nil
	}
	where := w.Chest.Dir
	if rel, err := filepath.Rel(w.Root, where); err == nil && filepath.IsLocal(rel) {
		where = filepath.ToSlash(rel) + ", inside the workspace"
	}
	a.say("%s is under control. %s for the first commit.", filepath.Base(w.Root), waiting(n))
	a.say("  workspace  %s, of %s", w.Name, w.Person)
	a.say("  chest      %s", where)
	a.say("Next: oaken changes, then oaken commit -m \"First state\"")
	return nil
}

func waiting(n int) string {
	if n == 1 {
		return "1 file is waiting"
	}
	return count(n, "file") + " are waiting"
}
