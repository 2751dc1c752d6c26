package cli

import (
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/chest/local"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newOpen(a *App) *cobra.Command {
	var o workspace.JoinOptions
	cmd := &cobra.Command{
		Use:   "open LOCATION [FOLDER]",
		Short: "Get a workspace of an existing chest",
		Long: `Get a workspace of your own: the newest commit of a branch is laid out in FOLDER,
which must be new or empty; without it, in a folder named like LOCATION. LOCATION
is the folder of a chest, or a workspace of one.

--from lays out another state, such as a release, in its own folder. --only lays
out a part of the project: paths and patterns such as exhibit/**, given once or
more. Everything else counts as unchanged; oaken restore PATH brings more of it.`,
		Example: "  oaken open /shared/chests/exhibit\n  oaken open ../brindle-bay tarek --branch kelp\n" +
			"  oaken open . ../spring --from release:spring\n  oaken open /shared/chests/exhibit scripts --only \"**/*.sql\"",
		GroupID:           groupStart,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := a.at(filepath.Base(filepath.Clean(args[0])))
			if len(args) == 2 {
				folder = a.at(args[1])
			}
			o.Person = a.as
			a.askName()
			w, err := workspace.Join(cmd.Context(), a.host(), a.at(args[0]), folder, o)
			if err != nil {
				return err
			}
			defer w.Close()
			a.EndProgress()
			n, err := w.Count(cmd.Context())
			if err != nil {
				return err
			}
			if a.JSON {
				a.print(result.OpenedOf(w, n))
				return nil
			}
			a.Say("%s holds %s of %s.", w.Root, screen.Count(n, "file"), a.Paint(screen.Strong, standing(w)))
			a.Say("  workspace  %s, of %s", w.Name, w.Person)
			a.Say("  chest      %s", w.Chest.Place())
			a.sayWho(w)
			if len(w.Only()) > 0 {
				a.Say("  only       %s", strings.Join(w.Only(), ", "))
			}
			a.tellSharing(w.Place())
			newest, err := w.Chest.Branch(cmd.Context(), w.Branch)
			if err != nil {
				return err
			}
			if newest.Tip != w.Base.ID {
				a.Say("  It stands on %s, not on the newest of %s; oaken sync brings it there.", o.State, w.Branch)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&o.Branch, "branch", "", "work on the branch `NAME`")
	cmd.Flags().StringVar(&o.State, "from", "", "lay out `STATE`, such as release:spring")
	cmd.Flags().StringSliceVar(&o.Only, "only", nil, "lay out what `PATTERN` chooses alone")
	cmd.MarkFlagsMutuallyExclusive("branch", "from")
	return cmd
}

// tellSharing says what keeps people from using a chest together.
func (a *App) tellSharing(c *local.Folder) {
	if c == nil {
		return // a server sees to that
	}
	lacking := c.Unshared()
	switch {
	case !c.Writable():
		a.Note("You can read it, but not write there: what you commit stays unsent. Ask who owns %s for the rights.", c.Dir)
	case len(lacking) > 0:
		a.Note("Others of its group can't use all of it.")
	}
	if len(lacking) > 0 {
		a.Note("The folder is its group's, but %s in it can't be used by the group, such as %s. Their owner mends it with:",
			screen.Count(len(lacking), "file"), lacking[0])
		a.Note("  chmod -R g+rwX %[1]s && chgrp -R $(stat -c %%g %[1]s) %[1]s && find %[1]s -type d -exec chmod g+s {} +", c.Dir)
	}
}

func newSync(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "sync",
		Short: "Bring newer commits in, and publish what is unsent",
		Long: `Bring the newer commits of the branch into this workspace. Edits that are not
committed stay; where somebody else changed the same artifact, the two are
combined by element. When they can't be, nothing is changed.

Unsent commits are published, on top of what others have published; where
the two can't be combined, the conflicts are laid open and nothing is lost.`,
		Example:           "  oaken sync",
		GroupID:           groupDaily,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				s, err := w.Sync(cmd.Context())
				if err != nil {
					return err
				}
				defer func() {
					if s.Commits > 0 {
						a.tellBehind(cmd.Context(), w)
					}
				}()
				return a.showSynced(w, s)
			})
		},
	}
}

func (a *App) showSynced(w *workspace.Workspace, s *workspace.Synced) error {
	if a.JSON {
		a.print(result.SyncedOf(w, s))
		if len(s.Conflicts) > 0 {
			return &conflictsRemain{}
		}
		return nil
	}
	if len(s.Conflicts) > 0 {
		a.showConflicts(s.Conflicts)
		return heldConflicts(len(s.Conflicts))
	}
	if s.Commits > 0 {
		a.Say("%s brought in: %s written, %d removed.", screen.Count(s.Commits, "commit"), screen.Count(s.Written, "file"), s.Removed)
	}
	a.showCombined("combined with your edits", s.Combined)
	for _, c := range s.Published {
		a.Say("%s  %s", a.Paint(screen.Strong, workspace.Label(c)), screen.FirstLine(c.Message))
		a.Say("  was unsent, published as %s", c.ID.Short())
	}
	if s.Commits+len(s.Published) == 0 {
		a.Say("This workspace has the newest of %s.", standing(w))
	} else {
		a.Say("This workspace is at %s now.", a.Paint(screen.Strong, standing(w)))
	}
	return nil
}

// heldConflicts says that what was committed is unsent, with conflicts laid open.
func heldConflicts(n int) error {
	return fault.New(fault.Conflict,
		"Settle each with oaken resolve ADDRESS --keep SIDE or --value V, then oaken commit publishes; oaken merge --abandon puts it off.",
		"Others have published first, and %s open; what you committed is unsent, and the workspace holds your version.", openConflicts(n))
}
