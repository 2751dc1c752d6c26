package board

import (
	_ "embed" // for the forms of the pages
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenchest/core/ledger"
	"oakenchest/core/owed"
	"oakenchest/core/pipeline"
	"oakenchest/core/report"
	"oakenchest/core/workspace"
)

//go:embed board.html
var boardForm string

//go:embed report.html
var reportForm string

//go:embed board.css
var style string

// forms are parsed when the first page is written.
var forms = sync.OnceValue(func() *template.Template {
	t := template.New("board").Funcs(template.FuncMap{
		"clock": func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") },
		"day":   func(t time.Time) string { return t.Local().Format("2 Jan 2006") },
		"label": func(c ledger.Commit) string { return workspace.Label(c) },
		"line":  func(s string) string { l, _, _ := strings.Cut(s, "\n"); return l },
		"span":  pipeline.Span,
		"from":  report.From,
		"to":    report.To,
		"steps": func(n int) string {
			if n == 1 {
				return "1 step"
			}
			return fmt.Sprintf("%d steps", n)
		},
		"cell":  CellText,
		"tone":  cellTone,
		"minus": func(n int) int { return n - 1 },
		"join":  func(list []string) string { return strings.Join(list, ", ") },
	})
	template.Must(t.Parse(boardForm))
	template.Must(t.New("items").Parse(itemsForm))
	return template.Must(t.New("report").Parse(reportForm))
})

// Board is everything that the board page shows.
type Board struct {
	*pipeline.Overview
	// Recent are the newest deployments.
	Recent []pipeline.Record
}

// laneDebt is what one lane owes, each work once.
type laneDebt struct {
	Lane  string
	Works []workDebt
}

type workDebt struct {
	owed.Work
	Age time.Duration
	To  []string
}

// debts puts together what is owed to the stages of each lane.
func (b *Board) debts() []laneDebt {
	var out []laneDebt
	for _, lane := range b.Lanes() {
		d := laneDebt{Lane: lane}
		for _, s := range b.Stages {
			if s.Lane != lane {
				continue
			}
			for _, w := range s.Owed {
				i := slices.IndexFunc(d.Works, func(o workDebt) bool { return o.ID == w.ID })
				if i < 0 {
					i = len(d.Works)
					d.Works = append(d.Works, workDebt{Work: w, Age: b.At.Sub(w.Since)})
				}
				d.Works[i].To = append(d.Works[i].To, s.Name)
			}
		}
		if len(d.Works) > 0 {
			out = append(out, d)
		}
	}
	return out
}

// waitingMoves lists the moves that work waits for.
func (b *Board) waitingMoves() (out []pipeline.MoveView) {
	for _, m := range b.Moves {
		if m.Waiting > 0 && len(m.Has.Message) > 0 {
			out = append(out, m)
		}
	}
	return out
}

// tally counts stages by their word.
func (b *Board) tally() (drifted, owedTo, waiting, booked int) {
	for _, s := range b.Stages {
		if s.Drift != nil && s.Drift.Differences > 0 {
			drifted++
		}
		if len(s.Owed) > 0 {
			owedTo++
		}
		if len(s.Waiting) > 0 {
			waiting++
		}
		if len(s.Bookings) > 0 {
			booked++
		}
	}
	return drifted, owedTo, waiting, booked
}

// Page draws the board as one page that needs nothing else.
func Page(w io.Writer, b *Board) error {
	var picture strings.Builder
	if err := SVG(&picture, b.Overview); err != nil {
		return err
	}
	drifted, owedTo, waiting, booked := b.tally()
	return forms().ExecuteTemplate(w, "board", map[string]any{
		// both are made here, and what is put into them is escaped
		"Board": b, "Style": template.CSS(style), "Picture": template.HTML(picture.String()),
		"Moves": b.waitingMoves(), "Debts": b.debts(), "Drifted": drifted, "Owed": owedTo, "Waiting": waiting, "Booked": booked,
		"Anchor": anchors(b.Stages),
	})
}

// anchors gives the name within the page of each stage.
func anchors(stages []pipeline.StageView) map[string]string {
	out := map[string]string{}
	for _, s := range stages {
		out[s.Name] = "stage-" + anchor(s.Name)
	}
	return out
}

// mostChanges bounds the changes that a report lists of one deployment.
const mostChanges = 200

// Report draws a report of deployments as one page that needs nothing else.
func Report(w io.Writer, r *report.Deployments) error {
	return forms().ExecuteTemplate(w, "report", map[string]any{"Report": r, "Style": template.CSS(style), "Most": mostChanges})
}
