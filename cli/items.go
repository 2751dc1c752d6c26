package cli

import (
	"context"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/board"
	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/report"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newPipelineItems(a *App) *cobra.Command {
	var keys []string
	var html, sheet string
	var limit int
	cmd := &cobra.Command{
		Use:   "items",
		Short: "Show where each work item is",
		Long: `Show work items and environments as a table: since when an item is there, whether some
of its work is, whether it waits to come, whether a later environment has it already, or
whether it was taken back. It is read from the records. --html writes a page, --sheet a
spreadsheet.`,
		Example: "  oaken pipeline items\n  oaken pipeline items --item AQ-31\n" +
			"  oaken pipeline items --html items.html --sheet items.xlsx",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				return a.showItemTable(cmd.Context(), w, keys, html, sheet, limit)
			})
		},
	}
	cmd.Flags().StringSliceVar(&keys, "item", nil, "only the item `KEY`")
	cmd.Flags().StringVar(&html, "html", "", "write a page to `FILE`")
	cmd.Flags().StringVar(&sheet, "sheet", "", "write a spreadsheet to `FILE`")
	cmd.Flags().IntVar(&limit, "limit", 40, "show at most `NUMBER` on the terminal; 0 for all")
	_ = cmd.MarkFlagFilename("html", "html")
	_ = cmd.MarkFlagFilename("sheet", "xlsx")
	for _, name := range []string{"item", "limit"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

func (a *App) showItemTable(ctx context.Context, w *workspace.Workspace, keys []string, html, sheet string, limit int) error {
	v, err := a.mover(w).Items(ctx, keys...)
	if err != nil {
		return err
	}
	var written []string
	write := func(name string, make func() ([]byte, error)) error {
		if name == "" {
			return nil
		}
		data, err := make()
		if err == nil {
			err = writeWhole(a.at(name), data)
		}
		if err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", name, err)
		}
		a.keepApart(name)
		written = append(written, name)
		return nil
	}
	page := func() ([]byte, error) {
		var b strings.Builder
		err := board.Items(&b, v)
		return []byte(b.String()), err
	}
	if err := write(html, page); err != nil {
		return err
	}
	if err := write(sheet, func() ([]byte, error) { return report.ItemsSheet(v) }); err != nil {
		return err
	}
	switch {
	case a.JSON:
		a.print(result.ItemsOf(v, written))
	case len(written) > 0:
		a.Say("%s written to %s.", screen.Count(len(v.Items), "item"), strings.Join(written, " and "))
	case len(v.Items) == 0 && len(keys) > 0:
		a.Say("No work for it is known. Commits name their item with --item KEY.")
	case len(v.Items) == 0:
		a.Say("No work names an item yet. Commits name theirs with --item KEY.")
	default:
		a.drawItems(v, limit)
	}
	return nil
}

// drawItems shows the table on a terminal.
func (a *App) drawItems(v *pipeline.ItemsView, limit int) {
	head := []screen.Cell{screen.Faint.Cell("item"), screen.Faint.Cell("what")}
	for _, e := range v.Environments {
		head = append(head, screen.Faint.Cell(e.Name))
	}
	rows := [][]screen.Cell{head}
	shown := v.Items
	if limit > 0 {
		shown = shown[:min(limit, len(shown))]
	}
	for _, it := range shown {
		row := []screen.Cell{screen.Strong.Cell(it.Key), screen.Plain.Cell(screen.OneLine(it.Title(), 34))}
		for _, c := range it.Cells {
			row = append(row, itemTone(c).Cell(itemText(c, len(it.Work), v.At)))
		}
		rows = append(rows, row)
	}
	a.Table(a.Out, "", rows)
	if left := len(v.Items) - len(shown); left > 0 {
		a.Say("%s", a.Paint(screen.Faint, screen.Count(left, "item")+" more: --limit 0"))
	}
}

// itemText is short, so that many environments fit.
func itemText(c pipeline.ItemCell, works int, at time.Time) string {
	if c.State == pipeline.ItemAbsent {
		return "·"
	}
	return board.CellText(c, works, at)
}

func itemTone(c pipeline.ItemCell) screen.Tone {
	switch c.State {
	case pipeline.ItemThere:
		return screen.Good
	case pipeline.ItemAbsent:
		return screen.Faint
	case pipeline.ItemWaits:
		return screen.Plain
	}
	return screen.Warm
}
