package workbook_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
)

func made(t *testing.T, edit func(f *excelize.File) error) kind.FileSource {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	var b bytes.Buffer
	if err := errors.Join(f.SetCellValue("Sheet1", "A1", 5), f.SetCellValue("Sheet1", "A2", "reef"), edit(f), f.Write(&b)); err != nil {
		t.Fatal(err)
	}
	return kind.FileSource{Name: "b.xlsx", Data: b.Bytes()}
}

func merged(t *testing.T, base, mine, theirs kind.FileSource) *excelize.File {
	t.Helper()
	k := all.Table().For("b.xlsx", base.Data[:100]).(kind.Writer)
	var r [3]*kind.Reading
	for i, src := range []kind.FileSource{base, mine, theirs} {
		var err error
		if r[i], err = k.Read(src); err != nil {
			t.Fatal(err)
		}
	}
	want, conflicts := element.Merge("b.xlsx", r[0].Root, r[1].Root, r[2].Root, nil)
	if len(conflicts) > 0 {
		t.Fatalf("conflicts: %v", conflicts[0].Address)
	}
	files, err := k.Write(mine, want, kind.Contents(r[1].Content, r[2].Content))
	if err != nil {
		t.Fatal(err)
	}
	data := mine.Data
	if out, ok := files["b.xlsx"]; ok {
		data = out
	}
	again, err := k.Read(kind.FileSource{Name: "b.xlsx", Data: data})
	if err != nil || element.Compare(again.Root, want) != nil {
		t.Fatalf("what was written is another tree: %v, %v", err, element.Compare(again.Root, want).Changes("x"))
	}
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

// TestFormatsOfConditionsAreKnownByWhatTheySay merges workbooks in which the same number of
// a format is another one on each side.
func TestFormatsOfConditionsAreKnownByWhatTheySay(t *testing.T) {
	condition := func(f *excelize.File, cells, color string) error {
		id, err := f.NewConditionalStyle(&excelize.Style{Font: &excelize.Font{Color: color}})
		if err != nil {
			return err
		}
		return f.SetConditionalFormat("Sheet1", cells,
			[]excelize.ConditionalFormatOptions{{Type: "cell", Criteria: ">", Format: &id, Value: "3"}})
	}
	base := made(t, func(*excelize.File) error { return nil })
	mine := made(t, func(f *excelize.File) error {
		return errors.Join(f.SetCellValue("Sheet1", "B1", "mine"), condition(f, "A1:A5", "FF0000"))
	})
	theirs := made(t, func(f *excelize.File) error {
		style, err := f.NewStyle(&excelize.Style{NumFmt: 4, Font: &excelize.Font{Italic: true}})
		return errors.Join(err, f.SetCellValue("Sheet1", "C1", 7.5), f.SetCellStyle("Sheet1", "C1", "C1", style),
			f.SetCellFormula("Sheet1", "C2", "A1*2"))
	})
	f := merged(t, base, theirs, mine)
	formats, err := f.GetConditionalFormats("Sheet1")
	if err != nil || len(formats["A1:A5"]) != 1 || formats["A1:A5"][0].Format == nil {
		t.Fatalf("%v, %v", formats, err)
	}
	style, err := f.GetConditionalStyle(*formats["A1:A5"][0].Format)
	if err != nil || style.Font == nil || style.Font.Color != "FF0000" {
		t.Errorf("the condition's format: %+v, %v", style, err)
	}
	id, _ := f.GetCellStyle("Sheet1", "C1")
	if s, err := f.GetStyle(id); err != nil || !s.Font.Italic || s.NumFmt != 4 {
		t.Errorf("the cell's style: %+v, %v", s, err)
	}
	if formula, err := f.GetCellFormula("Sheet1", "C2"); err != nil || formula != "A1*2" {
		t.Errorf("formula %q, %v", formula, err)
	}
}

// TestNamesOfASheetStayWithIt merges a new sheet in front with a name of the old one.
func TestNamesOfASheetStayWithIt(t *testing.T) {
	base := made(t, func(*excelize.File) error { return nil })
	mine := made(t, func(f *excelize.File) error {
		_, err := f.NewSheet("Front")
		return errors.Join(err, f.SetCellValue("Front", "A1", "x"), f.MoveSheet("Front", "Sheet1"))
	})
	theirs := made(t, func(f *excelize.File) error {
		return f.SetDefinedName(&excelize.DefinedName{Name: "depth", RefersTo: "Sheet1!$A$1", Scope: "Sheet1"})
	})
	f := merged(t, base, mine, theirs)
	for _, n := range f.GetDefinedName() {
		if n.Name == "depth" && n.Scope != "Sheet1" {
			t.Errorf("the name belongs to %s", n.Scope)
		}
	}
	if got := strings.Join(f.GetSheetList(), " "); got != "Front Sheet1" {
		t.Errorf("sheets %s", got)
	}
}

func FuzzRead(f *testing.F) {
	x := excelize.NewFile()
	var b bytes.Buffer
	if err := x.Write(&b); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	k := all.Table().For("b.xlsx", b.Bytes()[:100])
	f.Fuzz(func(t *testing.T, data []byte) {
		src := kind.FileSource{Name: "b.xlsx", Data: data}
		r, err := k.Read(src)
		if err != nil {
			return
		}
		if files, err := k.(kind.Writer).Write(src, r.Root, r.Content); err == nil && files != nil {
			t.Fatal("an equal tree was written")
		}
	})
}
