package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/service/result"
	"oakenchest/server"
)

func newServeBackup(a *App) *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use:   "backup FOLDER",
		Short: "Copy all that a server keeps, while it goes on",
		Long: `Copy all that a server keeps to FOLDER, which is new, empty, or has an earlier copy: then what
is new comes. The server goes on meanwhile. The copy is of one moment for each project, and is read
back whole before the command ends.

Run it on the machine of the server, as the account that runs it.`,
		Example:           "  oaken serve backup /mnt/backup/oaken --data /srv/oaken",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			from, err := a.dataFolder(data)
			if err != nil {
				return err
			}
			c, err := server.BackUp(cmd.Context(), from, a.at(args[0]), a.Now, a.Progress())
			if err != nil {
				return err
			}
			return a.sayCopied("Copied to %s: %s, %s, %s. Every byte was read back.", args[0], c)
		},
	}
	cmd.Flags().StringVar(&data, "data", "", "the server's `FOLDER`")
	_ = cmd.MarkFlagDirname("data")
	return cmd
}

func newServeRestore(a *App) *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use:   "restore FOLDER",
		Short: "Make a server's folder of a copy that backup made",
		Long: `Make a server's folder of a copy that oaken serve backup has made: --data names it, new or empty.
Every byte is read. People sign in anew then. What was committed after the copy was made is not
in it: its files are in the workspaces of those who have them.`,
		Example:           "  oaken serve restore /mnt/backup/oaken --data /srv/oaken\n  oaken serve --data /srv/oaken",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			to, err := a.dataFolder(data)
			if err != nil {
				return err
			}
			c, err := server.Restore(cmd.Context(), a.at(args[0]), to, a.Now, a.Progress())
			if err != nil {
				return err
			}
			return a.sayCopied("Brought back to %s: %s, %s, %s. Every byte was read. Start it with oaken serve --data.", to, c)
		},
	}
	cmd.Flags().StringVar(&data, "data", "", "the `FOLDER` to make, new or empty")
	_ = cmd.MarkFlagDirname("data")
	return cmd
}

func (a *App) sayCopied(format, where string, c server.Copied) error {
	a.EndProgress()
	if a.JSON {
		a.print(result.BackedUp{Folder: a.at(where), Projects: c.Projects, Bytes: c.Bytes, Copied: c.Copied})
		return nil
	}
	a.Say(format, where, screen.Count(c.Projects, "project"), element.SizeText(c.Bytes), element.SizeText(c.Copied)+" of it new")
	return nil
}
