package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/history"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newHistory(a *App) *cobra.Command {
	q := history.Query{Limit: 30}
	var since, until string
	var drawn, details bool
	cmd := &cobra.Command{
		Use:   "history [PATH[::ELEMENT]]",
		Short: "List the commits, of the project, a path or an element",
		Long: `List the commits of the branch that the workspace is on, the newest first. With a
path, those that changed it, each with the number of its version; a file that was
moved is followed. With PATH::ELEMENT, those that changed that element, or what
lies in it. --drawn shows how branches parted and met.`,
		Example: "  oaken history\n  oaken history exhibit/reef.glb --limit 5\n  oaken history exhibit/reef.glb::node:Lamp\n" +
			"  oaken history --author Imke --since 2026-05-01\n  oaken history --drawn",
		GroupID:           groupDaily,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeAddresses,
		RunE: func(cmd *cobra.Command, args []string) error {
			if q.Limit < 1 {
				return usage(cmd, "--limit takes a number from 1.")
			}
			var err error
			if q.Since, err = day(cmd, "since", since, 0); err != nil {
				return err
			}
			if q.Until, err = day(cmd, "until", until, 24*time.Hour-time.Nanosecond); err != nil {
				return err
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				entries, more, err := a.entries(cmd.Context(), w, args, q)
				if err == nil {
					a.showHistory(w, entries, more, drawn, details)
				}
				return err
			})
		},
	}
	f := cmd.Flags()
	f.IntVar(&q.Limit, "limit", q.Limit, "list at most `N` commits")
	f.StringVar(&q.Author, "author", "", "only commits of `NAME`")
	f.StringVar(&q.Item, "item", "", "only commits for the work item `KEY`")
	f.StringVar(&q.Text, "text", "", "only commits whose message holds `TEXT`")
	f.StringVar(&since, "since", "", "only commits since `DAY`, as 2026-05-31")
	f.StringVar(&until, "until", "", "only commits until `DAY`, that day included")
	f.BoolVar(&details, "details", false, "show workspaces and ids on a narrow terminal too")
	f.BoolVar(&drawn, "drawn", false, "show how branches parted and met")
	return cmd
}

// entries gives the commits of the project, or of the path or element named.
func (a *App) entries(ctx context.Context, w *workspace.Workspace, args []string, q history.Query) ([]history.Entry, bool, error) {
	elements, rest, err := a.asked(w).Elements(args)
	if err != nil {
		return nil, false, err
	}
	all := q == history.Query{Limit: q.Limit}
	if len(elements) > 0 {
		entries, more, err := history.ListElement(ctx, w.Chest, w.Reader(), w.Base, elements[0], q)
		if err == nil && len(entries) == 0 && all {
			err = fault.New(fault.Usage, "oaken inspect "+fault.Word(elements[0].Path)+" lists what there is now.",
				"No commit holds %s.", args[0])
		}
		return entries, more, err
	}
	paths, err := a.asked(w).Paths(rest)
	if err != nil {
		return nil, false, err
	}
	if len(paths) == 1 && paths[0] != "." {
		q.Path = paths[0]
	}
	entries, more, err := history.List(ctx, w.Chest, w.Base, q)
	if err == nil && q.Path != "" && len(entries) == 0 && all {
		err = fault.New(fault.Usage, "oaken changes lists what is new; paths are those of the project.", "No commit holds %s.", args[0])
	}
	return entries, more, err
}

// day reads a day in local time; add is added to its beginning.
func day(cmd *cobra.Command, flag, text string, add time.Duration) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return t, usage(cmd, "--%s takes a day such as 2026-05-31, not %q.", flag, text)
	}
	return t.Add(add), nil
}

// wideTerminal is the width in columns from which on history shows everything.
const wideTerminal = 100

func (a *App) showHistory(w *workspace.Workspace, entries []history.Entry, more, drawn, details bool) {
	if a.JSON {
		a.print(result.HistoryOf(entries, more))
		return
	}
	if len(entries) == 0 {
		a.Say("No commit of %s fits.", w.Branch)
		return
	}
	var lanes []string
	if drawn {
		lanes = drawLanes(entries)
		a.Say("%s", a.Paint(screen.Faint, lanes[0]))
		lanes = lanes[1:]
	}
	var rows [][]screen.Cell
	for i, e := range entries {
		c := e.Commit
		message := screen.FirstLine(c.Message)
		if c.Item != "" {
			message = c.Item + ": " + message
		}
		row := []screen.Cell{screen.Strong.Cell(workspace.Label(c)), screen.Plain.Cell(screen.Clock(c.Time)), screen.Plain.Cell(c.Author)}
		if details || a.Width <= 0 || a.Width >= wideTerminal {
			row = append(row, screen.Faint.Cell(c.Workspace), screen.Faint.Cell(c.ID.Short()))
		}
		row = append(row, screen.Plain.Cell(screen.OneLine(message, 80)))
		if drawn {
			row = append([]screen.Cell{screen.Warm.Cell(lanes[i])}, row...)
		}
		if e.Version > 0 {
			version := "version " + itoa(e.Version) + " of " + itoa(e.Versions)
			if e.From != "" {
				version += ", was " + e.From
			}
			row = append(row, screen.Faint.Cell(version))
		}
		rows = append(rows, row)
	}
	a.Table(a.Out, "", rows)
	if more {
		a.Note("There are more; --limit says how many are listed.")
	}
}
