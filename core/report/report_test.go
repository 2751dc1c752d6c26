package report

import (
	"bytes"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/state"
)

func TestItemsAndTheSheet(t *testing.T) {
	at := time.Date(2026, 6, 12, 8, 5, 0, 0, time.Local)
	record := func(n int64, env string, items ...string) pipeline.Record {
		c := ledger.Commit{ID: ledger.ID{1}, Branch: "live", Depth: int(n)}
		return pipeline.Record{Deployed: chest.Deployed{Deployment: ledger.Deployment{Number: n, Environment: env, Author: "Ravi", Time: at,
			Steps: 2}, Commit: c,
			Account: &ledger.Account{Action: pipeline.ActionPromote, Origin: "rehearsal", Items: items, Took: 1500 * time.Millisecond,
				Reason: "=1+1"}}}
	}
	back := record(3, "live", "AQ-3")
	back.Undone = &ledger.Undone{Author: "Sefa", Time: at}
	plain := record(1, "test")
	plain.Account = nil
	changed := record(4, "live", "AQ-2", "AQ-1")
	changed.Gates = []pipeline.GateResult{{Name: "passed", Verdict: pipeline.Overridden}}
	changed.Differences = []state.Difference{{Path: "notes.txt",
		Changes: []element.Change{{Kind: element.Edited, Address: element.Address{Path: "notes.txt"}, From: element.TextValue("a"),
			To: element.TextValue("b")}}}}
	r := New("Brindle Bay", "live", time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC),
		[]pipeline.Record{changed, back, plain})
	if r.Title() != "What went to live from 1 June 2026 to 30 June 2026" {
		t.Errorf("title: %s", r.Title())
	}
	if len(r.Items) != 3 || r.Items[0].Key != "AQ-1" || r.Items[1].Key != "AQ-2" || r.Items[2].Key != "" {
		t.Errorf("items: %v", r.Items)
	}
	data, err := r.Sheet()
	if err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	for cell, want := range map[string]string{"A2": "4", "B2": "2026-06-12 08:05", "D2": "live:4", "E2": "promote", "F2": "rehearsal",
		"I2": "AQ-2, AQ-1", "K2": "1.5", "L2": "passed: overridden", "M2": "=1+1", "N3": "2026-06-12 08:05", "E4": "deploy"} {
		if got, err := f.GetCellValue("Deployments", cell); got != want || err != nil {
			t.Errorf("%s is %q, want %q (%v)", cell, got, want, err)
		}
	}
	if formula, _ := f.GetCellFormula("Deployments", "M2"); formula != "" {
		t.Errorf("a text became the formula %q", formula)
	}
	if rows, err := f.GetRows("Changes"); err != nil || len(rows) != 2 || rows[1][2] != "notes.txt" {
		t.Errorf("changes: %v, %v", rows, err)
	}
}
