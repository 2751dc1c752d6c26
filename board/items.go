package board

import (
	_ "embed" // for the form of the page
	"fmt"
	"html/template"
	"io"
	"time"

	"oakenchest/core/pipeline"
)

//go:embed items.html
var itemsForm string

// CellText writes how an item of some pieces of work stands in an environment; days of the year at hand stand without it.
func CellText(c pipeline.ItemCell, works int, at time.Time) string {
	switch since := c.Since.Local(); c.State {
	case pipeline.ItemThere:
		if since.Year() == at.Local().Year() {
			return since.Format("2 Jan")
		}
		return since.Format("2 Jan 2006")
	case pipeline.ItemPartly:
		return fmt.Sprintf("%d of %d", c.Has, works)
	}
	return string(c.State)
}

// cellTone is the class of a cell on a page.
func cellTone(c pipeline.ItemCell) string {
	switch c.State {
	case pipeline.ItemThere:
		return "good"
	case pipeline.ItemPartly, pipeline.ItemOwed, pipeline.ItemTakenBack:
		return "warm"
	case pipeline.ItemWaits:
		return "cool"
	}
	return "soft"
}

// Items draws the table of items and environments as one page that needs nothing else.
func Items(w io.Writer, v *pipeline.ItemsView) error {
	return forms().ExecuteTemplate(w, "items", map[string]any{"View": v, "Style": template.CSS(style)})
}
