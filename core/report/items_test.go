package report

import (
	"bytes"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
)

func TestItemsAreASheet(t *testing.T) {
	at := time.Date(2026, 6, 12, 8, 5, 0, 0, time.Local)
	data, err := ItemsSheet(&pipeline.ItemsView{Project: "Bay", At: at, Environments: []manifest.Environment{{Name: "dev"}, {Name: "live"}},
		Items: []pipeline.ItemView{{Key: "=AQ-1", Work: []ledger.Commit{{Branch: "main", Depth: 3, Author: "Imke", Time: at,
			Message: "=1+1"}, {ID: ledger.ID{1}, Branch: "main", Depth: 4, Author: "Tarek", Time: at, Message: "More\nof it"}},
			Cells: []pipeline.ItemCell{{State: pipeline.ItemThere, Since: at, Has: 2}, {State: pipeline.ItemTakenBack}}}}})
	if err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range [][3]string{{"Items", "A2", "=AQ-1"}, {"Items", "C2", "2"}, {"Items", "D1", "dev"},
		{"Items", "D2", "2026-06-12 08:05"},
		{"Items", "E2", string(pipeline.ItemTakenBack)}, {"Work", "B3", "main:4"}, {"Work", "C2", "Imke"}, {"Work", "E2", "=1+1"},
		{"Work", "E3", "More\nof it"}} {
		if got, err := f.GetCellValue(c[0], c[1]); err != nil || got != c[2] {
			t.Errorf("%s %s is %q, want %q (%v)", c[0], c[1], got, c[2], err)
		}
		if formula, _ := f.GetCellFormula(c[0], c[1]); formula != "" {
			t.Errorf("a text became the formula %q", formula)
		}
	}
	if names := f.GetSheetList(); len(names) != 2 {
		t.Errorf("sheets: %v", names)
	}
}
