package state

import (
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// sheet is what a table means: columns, and rows that keep a number whatever becomes of them.
type sheet struct {
	columns []string
	rows    []sheetRow
}

type sheetRow struct {
	id     int
	fields map[string]string
}

func (s sheet) clone() sheet {
	out := sheet{columns: slices.Clone(s.columns)}
	for _, r := range s.rows {
		c := sheetRow{r.id, map[string]string{}}
		for k, v := range r.fields {
			c.fields[k] = v
		}
		out.rows = append(out.rows, c)
	}
	return out
}

func (s sheet) write(quoted bool) string {
	var b strings.Builder
	b.WriteString(strings.Join(s.columns, ",") + "\n")
	for _, r := range s.rows {
		fields := make([]string, len(s.columns))
		for i, c := range s.columns {
			if fields[i] = r.fields[c]; quoted && c == "fish" {
				fields[i] = `"` + fields[i] + `"`
			}
		}
		b.WriteString(strings.Join(fields, ",") + "\n")
	}
	return b.String()
}

func (h hand) row(s sheet) sheetRow {
	r := sheetRow{h.number(), map[string]string{}}
	for _, c := range s.columns {
		r.fields[c] = h.word()
	}
	if slices.Contains(s.columns, "id") {
		r.fields["id"] = fmt.Sprint(r.id)
	}
	return r
}

func (h hand) editTable(s *sheet) {
	switch n := h.IntN(8); {
	case n == 0:
		c := h.word()
		s.columns = slices.Insert(s.columns, 1+h.IntN(len(s.columns)), c)
		for i := range s.rows {
			s.rows[i].fields[c] = h.word()
		}
	case n == 1 && len(s.columns) > 3:
		i := 2 + h.IntN(len(s.columns)-2)
		for _, r := range s.rows {
			delete(r.fields, s.columns[i])
		}
		s.columns = slices.Delete(s.columns, i, i+1)
	case n < 4:
		s.rows = slices.Insert(s.rows, h.IntN(len(s.rows)+1), h.row(*s))
	case n == 4 && len(s.rows) > 1:
		i := h.IntN(len(s.rows))
		s.rows = slices.Delete(s.rows, i, i+1)
	case len(s.rows) > 0:
		s.rows[h.IntN(len(s.rows))].fields[s.columns[1+h.IntN(len(s.columns)-1)]] = h.word()
	}
}

// blendTables gives the rows that a merge has to come to, by number.
func blendTables(k *known, b, m, t sheet) map[int]map[string]string {
	index := func(s sheet) map[int]map[string]string {
		out := map[int]map[string]string{}
		for _, r := range s.rows {
			out[r.id] = r.fields
		}
		return out
	}
	x, y, z := index(b), index(m), index(t)
	columns := map[string]bool{}
	for _, s := range []sheet{b, m, t} {
		for _, c := range s.columns {
			has := func(s sheet) bool { return slices.Contains(s.columns, c) }
			columns[c] = has(m) && has(t) || !has(b)
		}
	}
	out := map[int]map[string]string{}
	for id := range namesOf(x, y, z) {
		was, mine, theirs := x[id], y[id], z[id]
		differs := func(is map[string]string) bool { return was != nil && is != nil && !reflect.DeepEqual(was, is) }
		switch {
		case was != nil && mine == nil && theirs == nil:
			continue
		case was != nil && (mine == nil || theirs == nil):
			if differs(mine) || differs(theirs) {
				k.conflicts = append(k.conflicts, "a row edited and taken away")
			}
			continue
		}
		out[id] = map[string]string{}
		for c, stays := range columns {
			if v := k.value("field", was[c], mine[c], theirs[c]); v != "" && stays {
				out[id][c] = v
			} else if v != "" && (mine[c] != "" && mine[c] != was[c] || theirs[c] != "" && theirs[c] != was[c]) {
				k.conflicts = append(k.conflicts, "a field edited in a column that goes")
			}
		}
	}
	return out
}

// TestTablesBeforeAJudge does for tables what TestMergesBeforeAJudge does for papers.
func TestTablesBeforeAJudge(t *testing.T) {
	o := newOutside(t)
	rounds, seed := 150, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	for _, keyed := range []bool{true, false} {
		t.Run(map[bool]string{true: "keyed", false: "keyless"}[keyed], func(t *testing.T) {
			var v verdicts
			for n := range rounds {
				judgeTable(t, o, keyed, seed+uint64(n), &v)
				if t.Failed() {
					break
				}
			}
			t.Logf("%d merges: %d without conflict, %d in conflict, %d of them without need", v.merges, v.clean, v.conflicts, v.needless)
			if keyed && v.needless*50 > v.merges && v.merges > 100 {
				t.Errorf("%d conflicts of %d merges were without need", v.needless, v.merges)
			}
		})
	}
}

func judgeTable(t *testing.T, o *outside, keyed bool, seed uint64, v *verdicts) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 5))
	next := 0
	h := hand{r, &next, "nobody", format{}}
	b := sheet{columns: []string{"id", "fish", "tint", "watt"}}
	if !keyed {
		b.columns = []string{"tank", "fish", "tint", "watt"}
	}
	for range 2 + r.IntN(8) {
		b.rows = append(b.rows, h.row(b))
	}
	m, th := b.clone(), b.clone()
	for range 1 + r.IntN(3) {
		h.editTable(&m)
	}
	for range 1 + r.IntN(3) {
		h.editTable(&th)
	}
	k := &known{}
	want := blendTables(k, b, m, th)
	quoted := r.IntN(2) == 0
	base, mine, theirs := b.write(quoted), m.write(quoted), th.write(quoted)
	got, conflicts := merged(t, memory("t.csv", base), memory("t.csv", mine), memory("t.csv", theirs), nil)
	text := string(got.Contents["t.csv"])
	v.merges++
	fail := func(format string, args ...any) {
		t.Errorf("seed %d: %s\n--- base\n%s--- mine\n%s--- theirs\n%s--- outcome, conflicts %v\n%s", seed, fmt.Sprintf(format, args...),
			base, mine, theirs, conflicts, text)
	}
	doc, err := o.read("csv", text)
	switch {
	case err != nil:
		fail("the outcome can't be read: %v", err)
		return
	case len(conflicts) > 0:
		if v.conflicts++; len(k.conflicts) == 0 {
			if v.needless++; os.Getenv("OAKEN_SHOW") != "" {
				t.Logf("without need, seed %d: %v\n--- base\n%s--- mine\n%s--- theirs\n%s---\n", seed, conflicts, base, mine, theirs)
			}
		}
		return
	case len(k.conflicts) > 0:
		fail("a conflict went unseen: %v", k.conflicts)
		return
	}
	v.clean++
	var is, due []string
	lines := doc.([]any)
	for _, line := range lines[1:] {
		row := map[string]string{}
		for i, f := range line.([]any) {
			if f != "" {
				row[lines[0].([]any)[i].(string)] = f.(string)
			}
		}
		is = append(is, fmt.Sprint(row))
	}
	for _, row := range want {
		due = append(due, fmt.Sprint(row))
	}
	slices.Sort(is)
	if slices.Sort(due); !slices.Equal(is, due) {
		fail("it means something else:\ngot  %v\nwant %v", is, due)
	}
}
