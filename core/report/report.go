// Package report puts records together for people who were not there: what went where in
// a time, by work item. It makes spreadsheets; pages are drawn elsewhere.
package report

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/element"
	"oakenchest/core/pipeline"
	"oakenchest/core/workspace"
)

// Going is one arrival of an item in an environment.
type Going struct {
	Environment, State string
	Number             int64
	Time               time.Time
}

// Item is a work item with where it went, the newest first.
type Item struct {
	Key  string
	Goes []Going
}

// ByItem lists items by key, with the deployments that were not taken back; what came
// without an item is at the end, under the empty key.
func ByItem(list []pipeline.Record) []Item {
	at := map[string]*Item{}
	var keys []string
	for _, r := range list {
		if r.Undone != nil {
			continue
		}
		items := []string{""}
		if r.Account != nil && len(r.Account.Items) > 0 {
			items = r.Account.Items
		}
		for _, k := range items {
			if at[k] == nil {
				at[k] = &Item{Key: k}
				keys = append(keys, k)
			}
			at[k].Goes = append(at[k].Goes, Going{r.Environment, workspace.Label(r.Commit), r.Number, r.Time})
		}
	}
	slices.SortFunc(keys, func(a, b string) int {
		if (a == "") != (b == "") {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var out []Item
	for _, k := range keys {
		out = append(out, *at[k])
	}
	return out
}

// Deployments is a report of what was deployed in a time.
type Deployments struct {
	Project string
	// Environment is the only one; empty for all.
	Environment string
	// Since and Until bound the time; zero for no bound.
	Since, Until time.Time
	Records      []pipeline.Record
	Items        []Item
}

// New makes a report of records, the newest first.
func New(project, environment string, since, until time.Time, list []pipeline.Record) *Deployments {
	return &Deployments{project, environment, since, until, list, ByItem(list)}
}

// Title says what the report is of.
func (d *Deployments) Title() string {
	where := "all environments"
	if d.Environment != "" {
		where = d.Environment
	}
	title := "What went to " + where
	if !d.Since.IsZero() {
		title += " from " + d.Since.Format("2 January 2006")
	}
	if !d.Until.IsZero() {
		title += " to " + d.Until.Add(-time.Minute).Format("2 January 2006")
	}
	return title
}

// Sheet makes an Office Open XML spreadsheet (ECMA-376) of the report: a sheet of
// deployments, one of items, one of changes.
func (d *Deployments) Sheet() ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	w, err := newWriter(f)
	if err != nil {
		return nil, err
	}
	w.sheet("Deployments", []string{"number", "time", "environment", "state", "what", "from", "lane", "by", "items", "steps", "seconds",
		"gates", "reason", "taken back"}, []float64{8, 18, 16, 14, 12, 14, 14, 12, 24, 8, 9, 40, 30, 18})
	for _, r := range d.Records {
		w.row(d.row(r))
	}
	w.sheet("Items", []string{"item", "environment", "time", "state", "deployment"}, []float64{16, 16, 18, 14, 12})
	for _, it := range d.Items {
		for _, g := range it.Goes {
			w.row([]any{it.Key, g.Environment, g.Time.Local(), g.State, g.Number})
		}
	}
	w.sheet("Changes", []string{"deployment", "environment", "address", "change", "from", "to"}, []float64{12, 16, 60, 12, 40, 40})
	for _, r := range d.Records {
		for _, x := range r.Differences {
			for _, c := range x.Changes {
				w.row([]any{r.Number, r.Environment, c.Address.String(), string(c.Kind), cut(From(c)), cut(To(c))})
			}
		}
	}
	return w.bytes()
}

// From writes the side of a change that was before; empty for nothing.
func From(c element.Change) string { return side(c.From, c, element.Removed) }

// To writes the side of a change that is now; empty for nothing.
func To(c element.Change) string { return side(c.To, c, element.Added) }

func side(v element.Value, c element.Change, whole element.ChangeKind) string {
	switch {
	case !v.IsAbsent():
		return v.String()
	case c.Kind == whole && c.Element != nil:
		return c.Element.Summary()
	}
	return ""
}

// longest is how many characters of a value a cell takes.
const longest = 2000

func cut(s string) string {
	if r := []rune(s); len(r) > longest {
		return string(r[:longest]) + " …"
	}
	return s
}

func (d *Deployments) row(r pipeline.Record) []any {
	out := []any{r.Number, r.Time.Local(), r.Environment, workspace.Label(r.Commit), "deploy", "", "", r.Author, "", r.Deployment.Steps,
		"", "", "", ""}
	if a := r.Account; a != nil {
		var gates []string
		for _, g := range r.Gates {
			gates = append(gates, fmt.Sprintf("%s: %s", g.Name, g.Verdict))
		}
		out[4], out[5], out[6], out[8], out[10], out[11], out[12] = a.Action, a.Origin, a.Lane, strings.Join(a.Items, ", "),
			a.Took.Seconds(), strings.Join(gates, ", "), a.Reason
	}
	if r.Undone != nil {
		out[13] = r.Undone.Time.Local()
	}
	return out
}

// writer fills one sheet after the other, and keeps the first error.
type writer struct {
	f          *excelize.File
	head, when int // the styles of headings and of times
	name       string
	rows       int
	err        error
}

func newWriter(f *excelize.File) (*writer, error) {
	head, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	form := "yyyy-mm-dd hh:mm"
	when, err := f.NewStyle(&excelize.Style{CustomNumFmt: &form})
	return &writer{f: f, head: head, when: when}, err
}

func (w *writer) sheet(name string, heads []string, widths []float64) {
	w.name, w.rows = name, 0
	if w.err == nil {
		_, w.err = w.f.NewSheet(name)
	}
	cells := make([]any, len(heads))
	for i, h := range heads {
		cells[i] = h
		if column, err := excelize.ColumnNumberToName(i + 1); err == nil && w.err == nil {
			w.err = w.f.SetColWidth(name, column, column, widths[i])
		}
	}
	w.row(cells)
	if w.err == nil {
		w.err = w.f.SetRowStyle(name, 1, 1, w.head)
	}
	if w.err == nil {
		w.err = w.f.SetPanes(name, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"})
	}
}

func (w *writer) row(cells []any) {
	w.rows++
	if w.err == nil {
		w.err = w.f.SetSheetRow(w.name, fmt.Sprintf("A%d", w.rows), &cells)
	}
	for i, c := range cells {
		if _, is := c.(time.Time); is && w.err == nil {
			name, err := excelize.CoordinatesToCellName(i+1, w.rows)
			if w.err = err; err == nil {
				w.err = w.f.SetCellStyle(w.name, name, name, w.when)
			}
		}
	}
}

// bytes gives the file, without the sheet that a new one begins with.
func (w *writer) bytes() ([]byte, error) {
	if w.err != nil {
		return nil, w.err
	}
	if err := w.f.DeleteSheet("Sheet1"); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err := w.f.Write(&out)
	return out.Bytes(), err
}
