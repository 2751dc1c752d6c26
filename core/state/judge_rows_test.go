package state

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/kind/recipe"
	"oakenchest/core/manifest"
)

// tankRow is a row of a judged sheet. Its name tells it from others; half is the tank whose
// figure a formula of it halves, 0 for none.
type tankRow struct {
	id     int
	figure [3]string
	half   int
}

// tanks is a sheet: rows, a sum over some that stand together, and the order of its columns.
type tanks struct {
	rows        []*tankRow
	first, last int // of the sum, by id
	columns     []string
}

func (s *tanks) clone() *tanks {
	out := &tanks{first: s.first, last: s.last, columns: slices.Clone(s.columns)}
	for _, r := range s.rows {
		c := *r
		out.rows = append(out.rows, &c)
	}
	return out
}

func (s *tanks) at(id int) int {
	return slices.IndexFunc(s.rows, func(r *tankRow) bool { return r.id == id })
}

// passing reports whether a new row may be one of the base with another name.
func (s *tanks) passing(b *tanks) bool {
	return slices.ContainsFunc(s.rows, func(r *tankRow) bool {
		return b.at(r.id) < 0 && slices.ContainsFunc(b.rows, func(x *tankRow) bool { return s.at(x.id) < 0 && x.figure == r.figure })
	})
}

// unmoved reports whether nobody can see that a row went and another one came: all others
// stand where they stood.
func (s *tanks) unmoved(b *tanks) bool {
	return len(s.rows) == len(b.rows) && !slices.ContainsFunc(s.rows, func(r *tankRow) bool {
		i := b.at(r.id)
		return i >= 0 && i != s.at(r.id)
	}) && slices.ContainsFunc(s.rows, func(r *tankRow) bool { return b.at(r.id) < 0 })
}

// inOrderOf reports whether what two sheets have in common stands in one order.
func (s *tanks) inOrderOf(b *tanks) bool {
	last := -1
	for _, r := range s.rows {
		if i := b.at(r.id); i >= 0 {
			if i < last {
				return false
			}
			last = i
		}
	}
	return true
}

func (h hand) tank() *tankRow {
	t := &tankRow{id: h.number()}
	for i := range t.figure {
		t.figure[i] = strconv.Itoa(h.IntN(3)) // many are equal
	}
	return t
}

func (h hand) editTanks(s *tanks, keyed bool) {
	if keyed && h.IntN(5) == 0 { // it is sorted
		k := h.IntN(3)
		slices.SortStableFunc(s.rows, func(x, y *tankRow) int { return strings.Compare(x.figure[k], y.figure[k]) })
	}
	n := h.IntN(len(s.rows))
	r := s.rows[n]
	switch h.IntN(8) {
	case 0, 1:
		s.rows = slices.Insert(s.rows, 1+h.IntN(len(s.rows)-1), h.tank())
	case 2:
		if len(s.rows) < 4 {
			return
		}
		if r.id == s.first {
			s.first = s.rows[min(n+1, len(s.rows)-1)].id
		}
		if r.id == s.last {
			s.last = s.rows[max(n-1, 0)].id
		}
		s.rows = slices.Delete(s.rows, n, n+1)
		for _, x := range s.rows {
			if x.half == r.id {
				x.half = 0
			}
		}
	case 3:
		r.half = s.rows[h.IntN(len(s.rows))].id
	case 4:
		if at := h.IntN(len(s.columns)); len(s.columns) < 5 {
			s.columns = slices.Insert(s.columns, at, "note "+h.word())
		}
	default:
		r.figure[h.IntN(3)] = strconv.Itoa(h.IntN(100))
	}
}

const halves = 6 // the column of formulas, where no other gets to

func writeTanks(s *tanks) ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	cell := func(col, row int) string { at, _ := excelize.CoordinatesToCellName(col, row); return at }
	var errs error
	put := func(col, row int, v any) { errs = errors.Join(errs, f.SetCellValue("Sheet1", cell(col, row), v)) }
	columnOf := func(name string) int { return 2 + slices.Index(s.columns, name) }
	put(1, 1, "Tank")
	for i, name := range s.columns {
		put(2+i, 1, name)
	}
	put(halves+2, 1, "Half")
	for i, r := range s.rows {
		put(1, i+2, fmt.Sprintf("tank %d", r.id))
		for k, v := range r.figure {
			n, _ := strconv.Atoi(v)
			put(columnOf([]string{"One", "Two", "Three"}[k]), i+2, n)
		}
		if r.half != 0 {
			errs = errors.Join(errs, f.SetCellFormula("Sheet1", cell(halves+2, i+2), cell(columnOf("One"), s.at(r.half)+2)+"/2"))
		}
	}
	if s.first != 0 {
		put(1, len(s.rows)+2, "All")
	}
	col := columnOf("Two")
	if s.first == 0 {
		var b bytes.Buffer
		errs = errors.Join(errs, f.Write(&b))
		return b.Bytes(), errs
	}
	errs = errors.Join(errs, f.SetCellFormula("Sheet1", cell(halves+2, len(s.rows)+2),
		"SUM("+cell(col, s.at(s.first)+2)+":"+cell(col, s.at(s.last)+2)+")"))
	var b bytes.Buffer
	errs = errors.Join(errs, f.Write(&b))
	return b.Bytes(), errs
}

// told tells a sheet by the names of its tanks and columns.
func (s *tanks) told() string {
	var out []string
	for _, r := range s.rows {
		half := ""
		if s.at(r.half) >= 0 {
			half = fmt.Sprintf(" half of tank %d", r.half)
		}
		out = append(out, fmt.Sprintf("tank %d: One %s Three %s Two %s%s", r.id, r.figure[0], r.figure[2], r.figure[1], half))
	}
	slices.Sort(out)
	if s.first == 0 {
		return strings.Join(append(out, ""), "\n")
	}
	return strings.Join(append(out, fmt.Sprintf("sum of tank %d to tank %d", s.first, s.last)), "\n")
}

var inFormula = regexp.MustCompile(`[A-Z]+[0-9]+`)

// readTanks tells a sheet as a program of other people's reads it.
func readTanks(data []byte) (string, error) {
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		return "", err
	}
	defer f.Close()
	rows, err := f.GetRows("Sheet1")
	if err != nil || len(rows) == 0 {
		return "", fmt.Errorf("no rows: %w", err)
	}
	name := func(ref string) (string, string) {
		col, row, _ := excelize.CellNameToCoordinates(ref)
		tank, _ := f.GetCellValue("Sheet1", "A"+strconv.Itoa(row))
		at, _ := excelize.CoordinatesToCellName(col, 1)
		head, _ := f.GetCellValue("Sheet1", at)
		return tank, head
	}
	var out []string
	sum := ""
	for i, row := range rows[1:] {
		if len(row) == 0 {
			return "", fmt.Errorf("row %d is empty", i+2)
		}
		var parts []string
		formula := ""
		for c, head := range rows[0] {
			at, _ := excelize.CoordinatesToCellName(c+1, i+2)
			v, _ := f.GetCellValue("Sheet1", at)
			words, _ := f.GetCellFormula("Sheet1", at)
			switch {
			case head == "One" || head == "Two" || head == "Three":
				parts = append(parts, head+" "+v)
			case words != "":
				refs := inFormula.FindAllString(words, -1)
				var tanks []string
				for _, r := range refs {
					t, h := name(r)
					if want := map[int]string{1: "One", 2: "Two"}[len(refs)]; h != want {
						return "", fmt.Errorf("%s in %s is of the column %q", words, at, h)
					}
					tanks = append(tanks, t)
				}
				formula = strings.Join(tanks, " to ")
			}
		}
		if row[0] == "All" {
			sum = "sum of " + formula
			continue
		}
		slices.Sort(parts)
		if formula != "" {
			formula = " half of " + formula
		}
		out = append(out, row[0]+": "+strings.Join(parts, " ")+formula)
	}
	slices.Sort(out)
	return strings.Join(append(out, sum), "\n"), nil
}

// blendTanks gives what a merge has to come to.
func blendTanks(k *known, b, m, t *tanks) *tanks {
	out := &tanks{}
	number := func(what string, b, m, t int) int {
		n, _ := strconv.Atoi(k.value(what, strconv.Itoa(b), strconv.Itoa(m), strconv.Itoa(t)))
		return n
	}
	out.first, out.last = number("sum", b.first, m.first, t.first), number("sum", b.last, m.last, t.last)
	if (b.first != m.first || b.last != m.last) && (b.first != t.first || b.last != t.last) {
		k.soft = append(k.soft, "both changed the sum") // it is one formula
	}
	out.rows = pick(k, "tank", b.rows, m.rows, t.rows, func(r *tankRow) int { return r.id }, func(x, y *tankRow) bool { return *x == *y },
		func(b, m, t *tankRow) *tankRow {
			r := &tankRow{id: m.id, half: number("half", b.half, m.half, t.half)}
			for i := range r.figure {
				r.figure[i] = k.value("figure", b.figure[i], m.figure[i], t.figure[i])
			}
			return r
		})
	for _, r := range out.rows {
		if r.half != 0 && out.at(r.half) < 0 {
			k.conflicts = append(k.conflicts, "a formula leads to what was taken away")
		}
	}
	if out.first != 0 && (out.at(out.first) < 0 || out.at(out.last) < 0) {
		k.soft = append(k.soft, "an end of the sum was taken away")
	}
	return out
}

// TestMovedRowsBeforeAJudge merges sheets into which two people put rows and columns, so that
// cells have other addresses in each.
func TestMovedRowsBeforeAJudge(t *testing.T) {
	rounds, seed := 40, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	for _, keyed := range []bool{false, true} {
		t.Run(map[bool]string{false: "by likeness", true: "by a key"}[keyed], func(t *testing.T) { judgeRows(t, keyed, rounds, seed) })
	}
}

func judgeRows(t *testing.T, keyed bool, rounds int, seed uint64) {
	by := reader()
	if keyed {
		by.Kinds = recipe.Over(by.Kinds,
			[]manifest.Recipe{{Name: "tanks", Match: "*.xlsx",
				Elements: []manifest.ElementRule{{At: "workbook/Sheet1", Key: []string{"Tank"}}}}})
	}
	clean, needless := 0, 0
	for n := range rounds {
		r := rand.New(rand.NewPCG(seed+uint64(n), 13))
		next := 0
		h := hand{r, &next, "nobody", format{}}
		b := &tanks{columns: []string{"One", "Two", "Three"}}
		for range 3 + r.IntN(5) {
			b.rows = append(b.rows, h.tank())
		}
		if !keyed {
			b.first, b.last = b.rows[0].id, b.rows[len(b.rows)-1].id
		}
		sorts := 0
		edited := func() *tanks {
			s := b.clone()
			defer func() {
				if keyed && !s.inOrderOf(b) {
					sorts++
				}
			}()
			for range 1 + r.IntN(4) {
				h.editTanks(s, keyed)
			}
			return s
		}
		m, th := edited(), edited()
		k := &known{}
		want := blendTanks(k, b, m, th)
		if m.passing(b) || th.passing(b) {
			k.soft = append(k.soft, "a new tank says what one that went did, but for the name")
		}
		if !keyed && (m.unmoved(b) || th.unmoved(b)) {
			k.soft = append(k.soft, "a row was taken out, and another put in its place")
		}
		if sorts == 2 {
			k.soft = append(k.soft, "both have sorted")
		}
		var books [3]string
		for i, s := range []*tanks{b, m, th} {
			data, err := writeTanks(s)
			if err != nil {
				t.Fatal(err)
			}
			books[i] = string(data)
		}
		got, conflicts := mergedBy(t, by, memory("b.xlsx", books[0]), memory("b.xlsx", books[1]), memory("b.xlsx", books[2]), nil)
		is, err := readTanks(got.Contents["b.xlsx"])
		tell := fmt.Sprintf("seed %d\n--- base %v\n%s\n--- mine %v\n%s\n--- theirs %v\n%s\n--- outcome, conflicts %v\n%s\n", seed+uint64(n),
			b.columns, b.told(), m.columns, m.told(), th.columns, th.told(), conflicts, is)
		switch {
		case err != nil:
			t.Fatalf("the outcome can't be read: %v\n%s", err, tell)
		case len(k.soft) > 0:
		case len(conflicts) > 0 && len(k.conflicts) == 0:
			if needless++; os.Getenv("OAKEN_SHOW") != "" {
				t.Logf("without need, %s", tell)
			}
		case len(conflicts) == 0 && len(k.conflicts) > 0:
			t.Fatalf("a conflict went unseen: %v, %s", k.conflicts, tell)
		case len(conflicts) == 0:
			if clean++; is != want.told() {
				t.Fatalf("it means something else, %swant\n%s", tell, want.told())
			}
		}
	}
	t.Logf("%d merges: %d without conflict, %d conflicts without need", rounds, clean, needless)
}
