package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/ledger"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
	"oakenchest/core/workspace/disk"
)

func newPark(a *App) *cobra.Command {
	var o workspace.ParkOptions
	var drop bool
	cmd := &cobra.Command{
		Use:   "park [NAME [PATH...]]",
		Short: "Set work aside under a name, or list what is",
		Long: `Set what changed in this workspace, or the paths named, aside under a name: the files
are then as they were committed. oaken unpark brings it back, in any of your
workspaces. With --shared others see it and can bring it to theirs. Without a name,
list what is set aside. parked:NAME is a state that other commands take.`,
		Example: "  oaken park warmer-lamp\n" +
			"  oaken park warmer-lamp exhibit/reef.glb -m \"to be tried with the new rock\" --shared\n" +
			"  oaken compare main parked:warmer-lamp\n  oaken park",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.listParked(cmd.Context(), w) })
			}
			return a.withPaths(cmd.Context(), args[1:], func(w *workspace.Workspace, paths []string) error {
				if drop {
					return a.dropParked(cmd.Context(), w, args[0])
				}
				o.Name, o.Paths = args[0], paths
				changes, err := w.Park(cmd.Context(), o)
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Parked{Parked: o.Name, Paths: result.List(disk.PathsOf(changes)), Shared: o.Shared})
					return nil
				}
				a.Say("%s is set aside as %s.", fileCounts(changes), a.Paint(screen.Strong, o.Name))
				a.Say("  The workspace is as in %s again; oaken unpark %s brings it back.", workspace.Label(w.Base), o.Name)
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVarP(&o.Note, "message", "m", "", "say what it is: `TEXT`")
	f.BoolVar(&o.Shared, "shared", false, "let others see it")
	f.BoolVar(&drop, "drop", false, "throw away what is set aside as NAME")
	cmd.MarkFlagsMutuallyExclusive("drop", "shared")
	return cmd
}

func (a *App) dropParked(ctx context.Context, w *workspace.Workspace, name string) error {
	p, err := w.FindParked(ctx, w.Person+"/"+name)
	if err == nil {
		err = w.Chest.Unpark(ctx, p.Person, p.Name)
	}
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Parked{Paths: []string{}, Dropped: name})
		return nil
	}
	a.Say("What was parked as %s is thrown away.", a.Paint(screen.Strong, name))
	return nil
}

func (a *App) listParked(ctx context.Context, w *workspace.Workspace) error {
	all, err := w.Chest.AllParked(ctx)
	if err != nil {
		return err
	}
	list, rows := []result.ParkedEntry{}, [][]screen.Cell{}
	for _, p := range all {
		if p.Person != w.Person && !p.Shared {
			continue
		}
		paths := strings.Split(p.Paths, "\n")
		list = append(list, result.ParkedEntry{Name: p.Name, Person: p.Person, Workspace: p.Workspace, Branch: p.Branch,
			Time: result.Time(p.Time), Note: p.Note, Shared: p.Shared, Paths: paths})
		note := ""
		if p.Note != "" {
			note = screen.OneLine(screen.FirstLine(p.Note), 60)
		}
		shared := ""
		if p.Shared {
			shared = "shared"
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(p.Name), screen.Plain.Cell(p.Person), screen.Faint.Cell(screen.Clock(p.Time)),
			screen.Faint.Cell("on " + p.Branch),
			screen.Plain.Cell(screen.Count(len(paths), "file")), screen.Good.Cell(shared), screen.Plain.Cell(note)})
	}
	switch {
	case a.JSON:
		a.print(result.ParkedWork{Parked: list})
	case len(rows) == 0:
		a.Say("Nothing is parked.")
	default:
		a.Table(a.Out, "", rows)
	}
	return nil
}

func newUnpark(a *App) *cobra.Command {
	var keep bool
	cmd := &cobra.Command{
		Use:   "unpark NAME",
		Short: "Bring parked work back",
		Long: `Bring back what was set aside under a name, as changes that are not committed. What
was changed here meanwhile is combined by element; conflicts are laid open as in a
merge. What others share may be named PERSON/NAME; it stays parked for them.`,
		Example:           "  oaken unpark warmer-lamp\n  oaken unpark Tarek/kelp-study",
		GroupID:           groupDaily,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeParked,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				p, err := w.FindParked(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				u, err := w.Unpark(cmd.Context(), p, keep || p.Person != w.Person)
				if err != nil {
					return err
				}
				return a.showUnparked(p, u)
			})
		},
	}
	cmd.Flags().BoolVar(&keep, "keep", false, "leave it parked as well")
	return cmd
}

func (a *App) showUnparked(p ledger.Parked, u *workspace.Unparked) error {
	if a.JSON {
		a.print(result.Unparked{
			Unparked: p.Name, Paths: result.List(u.Paths), Combined: result.PathsOf(u.Combined), Unread: result.UnreadOf(u.Combined),
			Conflicts: result.ConflictsOf(u.Conflicts), Rescued: u.Rescued,
		})
		if len(u.Conflicts) > 0 {
			return &conflictsRemain{}
		}
		return nil
	}
	if len(u.Conflicts) > 0 {
		return a.conflictsOpen(u.Conflicts)
	}
	a.Say("%s from %s: %s changed, not committed yet.", a.Paint(screen.Strong, p.Name), p.Person, screen.Count(len(u.Paths), "file"))
	a.showCombined("combined by element", u.Combined)
	if u.Rescued != "" {
		a.Say("  What was there is kept in %s.", u.Rescued)
	}
	return nil
}

// completeParked offers what is set aside.
func (a *App) completeParked(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		all, _ := w.Chest.AllParked(cmd.Context())
		for _, p := range all {
			switch {
			case p.Person == w.Person:
				out = append(out, p.Name)
			case p.Shared:
				out = append(out, p.Person+"/"+p.Name)
			}
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}
