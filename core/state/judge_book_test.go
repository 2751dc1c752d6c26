package state

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/xuri/excelize/v2"
)

// cellState is what a cell of the judged workbooks has.
type cellState struct {
	value string
	bold  bool
	fill  string
}

// writeBook makes a workbook with a program of other people's.
func writeBook(t *testing.T, cells map[string]cellState) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for at, c := range cells {
		var err error
		if n, bad := strconv.Atoi(c.value); bad == nil {
			err = f.SetCellValue("Sheet1", at, n)
		} else {
			err = f.SetCellValue("Sheet1", at, c.value)
		}
		if err != nil {
			t.Fatal(err)
		}
		if !c.bold && c.fill == "" {
			continue
		}
		s := &excelize.Style{}
		if c.bold {
			s.Font = &excelize.Font{Bold: true}
		}
		if c.fill != "" {
			s.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{c.fill}}
		}
		id, err := f.NewStyle(s)
		if err == nil {
			err = f.SetCellStyle("Sheet1", at, at, id)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// readBook reads one back.
func readBook(data []byte) (map[string]cellState, error) {
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := map[string]cellState{}
	for col := 1; col <= 4; col++ {
		for row := 1; row <= 6; row++ {
			at, _ := excelize.CoordinatesToCellName(col, row)
			v, err := f.GetCellValue("Sheet1", at)
			if err != nil {
				return nil, err
			}
			c := cellState{value: v}
			id, err := f.GetCellStyle("Sheet1", at)
			if err == nil && id != 0 {
				s, err := f.GetStyle(id)
				if err != nil {
					return nil, err
				}
				c.bold = s.Font != nil && s.Font.Bold
				if len(s.Fill.Color) > 0 {
					c.fill = s.Fill.Color[0]
				}
			}
			if c != (cellState{}) {
				out[at] = c
			}
		}
	}
	return out, nil
}

// TestWorkbooksBeforeAJudge merges workbooks that two people edited. Texts and styles stand
// in lists whose order is different in each: what a cell has must not come from another.
func TestWorkbooksBeforeAJudge(t *testing.T) {
	rounds, seed := 40, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	clean, needless := 0, 0
	for n := range rounds {
		r := rand.New(rand.NewPCG(seed+uint64(n), 9))
		next := 0
		h := hand{r, &next, "nobody", format{}}
		edit := func(cells map[string]cellState, times int) {
			for range times {
				at, _ := excelize.CoordinatesToCellName(1+r.IntN(4), 1+r.IntN(6))
				c := cells[at]
				switch r.IntN(5) {
				case 0:
					c.bold = !c.bold
				case 1:
					c.fill = []string{"FFFF00", "00FF00", ""}[r.IntN(3)]
				case 2:
					c = cellState{}
				default:
					c.value = h.value()
				}
				if c.value == "" && (c.bold || c.fill != "") {
					c.value = h.word()
				}
				if delete(cells, at); c != (cellState{}) {
					cells[at] = c
				}
			}
		}
		base := map[string]cellState{"A1": {value: "Tank", bold: true}}
		edit(base, 12)
		mine, theirs := map[string]cellState{}, map[string]cellState{}
		for at, c := range base {
			mine[at], theirs[at] = c, c
		}
		edit(mine, 1+r.IntN(4))
		edit(theirs, 1+r.IntN(4))
		k := &known{}
		want := map[string]cellState{}
		for at := range namesOf(base, mine, theirs) {
			b, m, th := base[at], mine[at], theirs[at]
			gone := func(was, is cellState) bool { return was != (cellState{}) && is == (cellState{}) }
			if gone(b, m) && th != b && th != m || gone(b, th) && m != b && m != th {
				k.conflicts = append(k.conflicts, "taken away and edited")
			}
			style := k.value("style", fmt.Sprint(b.bold, b.fill), fmt.Sprint(m.bold, m.fill), fmt.Sprint(th.bold, th.fill))
			c := cellState{value: k.value("value", b.value, m.value, th.value)}
			for _, x := range []cellState{b, m, th} {
				if fmt.Sprint(x.bold, x.fill) == style {
					c.bold, c.fill = x.bold, x.fill
				}
			}
			if c != (cellState{}) {
				want[at] = c
			}
		}
		got, conflicts := merged(t, memory("b.xlsx", string(writeBook(t, base))), memory("b.xlsx", string(writeBook(t, mine))),
			memory("b.xlsx", string(writeBook(t, theirs))), nil)
		is, err := readBook(got.Contents["b.xlsx"])
		switch {
		case err != nil:
			t.Fatalf("seed %d: the outcome can't be read: %v", seed+uint64(n), err)
		case len(conflicts) > 0 && len(k.conflicts) == 0:
			if needless++; os.Getenv("OAKEN_SHOW") != "" {
				t.Logf("seed %d: %v\nbase   %v\nmine   %v\ntheirs %v", seed+uint64(n), conflicts, base, mine, theirs)
			}
		case len(conflicts) == 0 && len(k.conflicts) > 0:
			t.Fatalf("seed %d: a conflict went unseen: %v\nbase   %v\nmine   %v\ntheirs %v\nis     %v", seed+uint64(n), k.conflicts, base,
				mine, theirs, is)
		case len(conflicts) == 0:
			if clean++; fmt.Sprint(is) != fmt.Sprint(want) {
				t.Fatalf("seed %d: it means something else\nbase   %v\nmine   %v\ntheirs %v\nis     %v\nwant   %v", seed+uint64(n), base,
					mine, theirs, is, want)
			}
		}
	}
	t.Logf("%d merges: %d without conflict, %d conflicts without need", rounds, clean, needless)
	if needless*50 > rounds {
		t.Errorf("%d of %d conflicts were without need", needless, rounds)
	}
}
