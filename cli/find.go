package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/history"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

func newFind(a *App) *cobra.Command {
	from, limit, through := "work", 200, false
	cmd := &cobra.Command{
		Use:   "find TEXT [PATH...]",
		Short: "Find elements by name or value",
		Long: `Find a text in paths, in the names of elements and in their values, without regard
to capitals: in this workspace, or in the state that --from names. --history looks
through all commits up to the one that the workspace stands on, and says which
brought each place and which took it away; what a merge brought counts as its.`,
		Example: "  oaken find lamp\n  oaken find amount_g database --from release:spring\n" +
			"  oaken find --history \"bottle green\"",
		GroupID:           groupDaily,
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			if args[0] == "" {
				return usage(cmd, "There is no text to look for.")
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				if through {
					return a.findThrough(cmd.Context(), w, args, limit)
				}
				s, err := a.asked(w).State(cmd.Context(), from)
				if err != nil {
					return err
				}
				paths, err := a.asked(w).Paths(args[1:])
				if err != nil {
					return err
				}
				found := hits{limit: limit}
				err = w.Reader().Find(cmd.Context(), s, args[0], paths, func(h state.Hit) bool {
					return found.add(result.Hit{Address: h.Address.String(), Value: h.Value, Kind: h.Kind},
						[]screen.Cell{screen.Plain.Cell(h.Address.String()), screen.Faint.Cell(screen.Gist(h.Value, 100))})
				})
				if err == nil {
					a.showHits(found, args[0], s.Label())
				}
				return err
			})
		},
	}
	cmd.Flags().StringVar(&from, "from", from, "look in `STATE`")
	cmd.Flags().IntVar(&limit, "limit", limit, "list at most `N` places")
	cmd.Flags().BoolVar(&through, "history", false, "look through all commits")
	cmd.MarkFlagsMutuallyExclusive("history", "from")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeStates)
	return cmd
}

// findThrough looks for a text through the history.
func (a *App) findThrough(ctx context.Context, w *workspace.Workspace, args []string, limit int) error {
	paths, err := a.asked(w).Paths(args[1:])
	if err != nil {
		return err
	}
	found := hits{limit: limit}
	err = history.Find(ctx, w.Chest, w.Reader(), w.Base, args[0], paths, func(o history.Occurrence) bool {
		came, went := workspace.Label(o.Came), (*string)(nil)
		span := "since " + workspace.Label(o.Came)
		if o.Went != nil {
			gone := workspace.Label(*o.Went)
			went = &gone
			span = workspace.Label(o.Came) + ", gone in " + workspace.Label(*o.Went)
		}
		return found.add(result.Hit{Address: o.Address.String(), Value: o.Value, Kind: o.Kind, Came: &came, Went: &went},
			[]screen.Cell{screen.Plain.Cell(o.Address.String()), screen.Strong.Cell(span), screen.Faint.Cell(screen.Gist(o.Value, 80))})
	})
	if err == nil {
		a.showHits(found, args[0], "the history of "+w.Branch)
	}
	return err
}

// hits gathers what was found, up to a limit.
type hits struct {
	limit int
	list  []result.Hit
	rows  [][]screen.Cell
	more  bool // than the limit
}

// add takes a hit in, as JSON and as a line; false when there are enough.
func (h *hits) add(hit result.Hit, row []screen.Cell) bool {
	if h.more = len(h.list) == h.limit; h.more {
		return false
	}
	h.list, h.rows = append(h.list, hit), append(h.rows, row)
	return true
}

// showHits shows what was found of a text in some place.
func (a *App) showHits(h hits, text, place string) {
	switch {
	case a.JSON:
		a.print(result.Found{Hits: result.List(h.list), More: h.more})
	case len(h.rows) == 0:
		a.Say("%q is nowhere in %s.", text, place)
	default:
		a.Table(a.Out, "", h.rows)
	}
	if h.more {
		a.Note("There are more; --limit says how many are listed.")
	}
}

func newAuthors(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "authors PATH",
		Short:             "Show who last changed each element of an artifact",
		Long:              "Show for each element of an artifact, or each line of a text, the commit that gave\nit what it is now.",
		Example:           "  oaken authors exhibit/reef.glb\n  oaken authors database",
		GroupID:           groupDaily,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completePaths,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				paths, err := a.asked(w).Paths(args)
				if err != nil {
					return err
				}
				all, err := history.Authors(cmd.Context(), w.Chest, w.Reader(), w.Base, paths[0])
				if err != nil {
					return err
				}
				list, rows := []result.Authored{}, [][]screen.Cell{}
				for _, x := range all {
					list = append(list, result.Authored{Address: x.Address.String(), Commit: result.CommitOf(x.Commit)})
					inside := x.Address
					inside.Path = "x"
					rows = append(rows, []screen.Cell{screen.Strong.Cell(workspace.Label(x.Commit)),
						screen.Plain.Cell(screen.Clock(x.Commit.Time)), screen.Plain.Cell(x.Commit.Author),
						screen.Plain.Cell(objectName(inside)), screen.Faint.Cell(screen.Gist(x.Element.Summary(), 60))})
				}
				if a.JSON {
					a.print(result.Authors{Elements: list})
					return nil
				}
				a.Table(a.Out, "", rows)
				return nil
			})
		},
	}
}
