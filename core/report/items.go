package report

import (
	"github.com/xuri/excelize/v2"

	"oakenchest/core/pipeline"
	"oakenchest/core/workspace"
)

// ItemsSheet writes the table of items and environments as a spreadsheet (Office Open XML): a sheet with the table, and one
// with each piece of work.
func ItemsSheet(v *pipeline.ItemsView) ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	w, err := newWriter(f)
	if err != nil {
		return nil, err
	}
	heads, widths := []string{"item", "what", "pieces of work"}, []float64{14, 44, 14}
	for _, e := range v.Environments {
		heads, widths = append(heads, e.Name), append(widths, 18)
	}
	w.sheet("Items", heads, widths)
	for _, it := range v.Items {
		row := []any{it.Key, it.Title(), len(it.Work)}
		for _, c := range it.Cells {
			if c.State == pipeline.ItemThere {
				row = append(row, c.Since.Local())
			} else {
				row = append(row, string(c.State))
			}
		}
		w.row(row)
	}
	w.sheet("Work", []string{"item", "state", "by", "time", "message"}, []float64{14, 16, 14, 18, 60})
	for _, it := range v.Items {
		for _, c := range it.Work {
			w.row([]any{it.Key, workspace.Label(c), c.Author, c.Time.Local(), c.Message})
		}
	}
	return w.bytes()
}
