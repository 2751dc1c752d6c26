package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

func newRestore(a *App) *cobra.Command {
	var from, to string
	var rescued bool
	cmd := &cobra.Command{
		Use:   "restore [PATH[::ELEMENT]...]",
		Short: "Bring paths back as they are in another state",
		Long: `Bring files or folders back, byte for byte, as a state has them, without --from the
commit that the workspace stands on: in place, or below a folder named with --to. In
place, what is overwritten is kept as a rescue copy. In a workspace of a part of the
project that brings more of it. The path . stands for everything that is laid out.
PATH::ELEMENT brings one element or property of an artifact back; the rest of it stays
as it is.

Rescue copies are kept for 14 days. --rescued alone lists them; with paths it
brings the newest copy of each back.`,
		Example: "  oaken restore exhibit/reef.glb\n  oaken restore exhibit/reef.glb --from main:2\n" +
			"  oaken restore exhibit/reef.glb::node:Lamp.scale --from release:spring\n" +
			"  oaken restore . --from release:spring --to ../spring\n  oaken restore --rescued notes/opening.txt",
		GroupID:           groupDaily,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeAddresses,
		RunE: func(cmd *cobra.Command, args []string) error {
			if rescued {
				return a.rescued(cmd, args)
			}
			if len(args) == 0 {
				return usage(cmd, "Name the paths to bring back.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				s, from := w.BaseState(), from
				if from == "" {
					from = s.Label()
				} else {
					var err error
					if s, err = a.asked(w).State(cmd.Context(), from); err != nil {
						return err
					}
				}
				elements, args, err := a.asked(w).Elements(args)
				if err != nil {
					return err
				}
				if len(elements) > 0 {
					return a.restoreElements(cmd, w, elements, args, s, to)
				}
				paths, err := a.asked(w).Paths(args)
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
				a.showRestored(r, from, to)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "bring them back as `STATE` has them")
	cmd.Flags().StringVar(&to, "to", "", "place the files below `FOLDER`, which must not hold them")
	cmd.Flags().BoolVar(&rescued, "rescued", false, "list rescue copies, or bring those of the paths back")
	cmd.MarkFlagsMutuallyExclusive("rescued", "from")
	cmd.MarkFlagsMutuallyExclusive("rescued", "to")
	_ = cmd.MarkFlagDirname("to")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeStates)
	return cmd
}

// restoreElements brings elements back, one after another.
func (a *App) restoreElements(cmd *cobra.Command, w *workspace.Workspace, elements []element.Address, paths []string, from state.State,
	to string) error {
	if len(paths) > 0 || to != "" {
		return usage(cmd, "Elements are brought back in place, and not together with whole paths.")
	}
	var done []string
	rescued := ""
	for _, e := range elements {
		r, err := w.RestoreElement(cmd.Context(), e, from)
		if err != nil {
			return err
		}
		if len(r.Paths) > 0 {
			done = append(done, e.String())
		}
		if r.Rescued != "" {
			rescued = r.Rescued
		}
	}
	if a.JSON {
		a.print(result.Restored{From: from.Label(), Paths: result.List(done), Rescued: rescued})
		return nil
	}
	if len(done) == 0 {
		a.Say("Everything named is as it is in %s already.", from.Label())
	}
	for _, e := range done {
		a.Say("%s as in %s again.", e, from.Label())
	}
	a.sayRescued(rescued)
	return nil
}

func (a *App) showRestored(r *workspace.Restored, from, to string) {
	if a.JSON {
		a.print(result.Restored{From: from, Paths: result.List(r.Paths), Rescued: r.Rescued})
		return
	}
	switch {
	case len(r.Paths) == 0:
		a.Say("Everything named is as it is in %s already.", from)
	case to != "":
		a.Say("%s from %s placed in %s.", screen.Count(len(r.Paths), "file"), from, to)
	default:
		a.Say("%s as in %s again.", screen.Count(len(r.Paths), "file"), from)
	}
	a.sayRescued(r.Rescued)
}

// sayRescued says where rescue copies were kept, when there are any.
func (a *App) sayRescued(folder string) {
	if folder != "" {
		a.Say("  What was there is kept in %s; oaken restore --rescued lists it.", folder)
	}
}

// rescued lists rescue copies, or brings them back.
func (a *App) rescued(cmd *cobra.Command, args []string) error {
	return a.withPaths(cmd.Context(), args, func(w *workspace.Workspace, paths []string) error {
		if len(paths) > 0 {
			r, err := w.ReturnRescued(cmd.Context(), paths)
			if err == nil {
				a.showRestored(r, "the rescue copies", "")
			}
			return err
		}
		copies, err := w.RescueCopies(nil)
		if err != nil {
			return err
		}
		list, rows := []result.RescueCopy{}, [][]screen.Cell{}
		for _, c := range copies {
			list = append(list, result.RescueCopy{Path: c.Path, Time: result.Time(c.Time), Bytes: c.Size})
			rows = append(rows, []screen.Cell{screen.Plain.Cell(screen.Clock(c.Time)), screen.Strong.Cell(c.Path),
				screen.Faint.Cell(element.SizeText(c.Size))})
		}
		switch {
		case a.JSON:
			a.print(result.RescueCopies{Copies: list})
		case len(rows) == 0:
			a.Say("There is no rescue copy.")
		default:
			a.Table(a.Out, "", rows)
		}
		return nil
	})
}

func newDiscard(a *App) *cobra.Command {
	var unsent bool
	cmd := &cobra.Command{
		Use:   "discard PATH...",
		Short: "Take back edits that are not committed",
		Long: `Take back the edits of files or folders: they become as they are in the commit
that the workspace stands on. What is lost by that is kept as a rescue copy for 14
days; oaken restore --rescued PATH brings it back.

--unsent takes back the commits that are not published yet: no file changes, and
their work shows as changes again.`,
		Example: "  oaken discard exhibit/reef.glb\n  oaken discard .\n  oaken discard --unsent",
		GroupID: groupDaily,
		Args: func(cmd *cobra.Command, args []string) error {
			if unsent {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.MinimumNArgs(1)(cmd, args)
		},
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withPaths(cmd.Context(), args, func(w *workspace.Workspace, paths []string) error {
				if unsent {
					return a.letGo(w)
				}
				d, err := w.Discard(cmd.Context(), paths)
				if err != nil {
					return err
				}
				if a.JSON {
					names := []string{}
					for _, c := range d.Changes {
						names = append(names, c.Path)
					}
					a.print(result.Discarded{Paths: result.List(names), Rescued: d.Rescued})
					return nil
				}
				if len(d.Changes) == 0 {
					a.Say("Nothing has changed there.")
					return nil
				}
				a.Say("%s as in %s again.", fileCounts(d.Changes), workspace.Label(w.Base))
				a.sayRescued(d.Rescued)
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&unsent, "unsent", false, "take back the commits that are not published yet")
	return cmd
}

// letGo takes unsent commits back.
func (a *App) letGo(w *workspace.Workspace) error {
	n, err := w.LetGo()
	switch {
	case err != nil:
		return err
	case a.JSON:
		a.print(result.Discarded{Paths: []string{}, Held: &n})
	case n == 0:
		a.Say("No commit is unsent.")
	default:
		a.Say("%s taken back; the work shows as changes again.", screen.Count(n, "unsent commit"))
	}
	return nil
}
