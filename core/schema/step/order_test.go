package step

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestStepsComeWhereTheyBelong draws plans and holds the order against its rules: what must be committed first is first,
// rows are written before they are held to new rules, data steps run between, what runs by itself is last; nothing is lost,
// and each sort keeps its order.
func TestStepsComeWhereTheyBelong(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 0
		some := func(sort string, more func(*Step)) (out []Step) {
			for range r.IntN(4) {
				n++
				s := Step{What: fmt.Sprintf("%s %d", sort, n)}
				if more != nil {
					more(&s)
				}
				out = append(out, s)
			}
			return out
		}
		schema := slices.Concat(some("plain", nil), some("before", func(s *Step) { s.Before = true }),
			some("tight", func(s *Step) { s.AfterRows = true }),
			some("after", func(s *Step) { s.After = true }))
		r.Shuffle(len(schema), func(i, j int) { schema[i], schema[j] = schema[j], schema[i] })
		Tighten(schema)
		rows := Rows{Write: some("write", nil), Remove: some("remove", nil), Late: some("late", nil)}
		data := DataSteps{Before: some("first", nil), Between: some("between", nil), After: some("last", nil)}
		all := Join(schema, rows, data)
		if len(all) != n {
			t.Fatalf("seed %d: %d steps of %d", seed, len(all), n)
		}
		order := []string{"before", "first", "plain", "write", "between", "remove", "tight", "late", "last", "after"}
		at, lastOf := 0, map[string]int{}
		for _, s := range all {
			sort, number, _ := strings.Cut(s.What, " ")
			k := slices.Index(order, sort)
			if k < at {
				t.Fatalf("seed %d: %s comes behind %s: %v", seed, sort, order[at], whats(all))
			}
			at = k
			var num int
			_, _ = fmt.Sscan(number, &num)
			if rows := strings.Contains("write remove late first between last", sort); rows && num < lastOf[sort] {
				t.Fatalf("seed %d: %s is out of its order: %v", seed, sort, whats(all))
			}
			lastOf[sort] = num
		}
	}
}

func whats(list []Step) (out []string) {
	for _, s := range list {
		out = append(out, s.What)
	}
	return out
}

// TestCountingAsksOnce rehearses, asks in one query for each table, and gives what was told; a table that does not answer
// at once is asked one by one, and a count is never made up.
func TestCountingAsksOnce(t *testing.T) {
	var c Counting
	asked := []string{}
	one := func(query string) (int64, error) { asked = append(asked, query); return 7, nil }
	c.Rehearse()
	for _, where := range []string{"", "litres < 0", "litres < 0"} {
		if n, err := c.Rows("tank", where, one); n != 0 || err != nil {
			t.Errorf("a rehearsal counts %d, %v", n, err)
		}
	}
	_, _ = c.Rows("view", "broken", one)
	c.Ask(func(condition string) string { return "sum(" + condition + ")" }, func(query string, numbers int) ([]int64, error) {
		asked = append(asked, query)
		if strings.Contains(query, "view") {
			return nil, errors.New("no such column")
		}
		return []int64{10, 3}[:numbers], nil
	})
	if want := []string{"select count(*), sum(litres < 0) from tank", "select sum(broken) from view"}; !slices.Equal(asked, want) {
		t.Errorf("asked %q", asked)
	}
	for where, want := range map[string]int64{"": 10, "litres < 0": 3, "depth > 2": 7} {
		if n, err := c.Rows("tank", where, one); n != want || err != nil {
			t.Errorf("%q: %d, %v", where, n, err)
		}
	}
	if n, _ := c.Rows("view", "broken", one); n != 7 {
		t.Errorf("what did not answer at once counts %d", n)
	}
	if n, err := (*Counting)(nil).Rows("tank", "x", one); n != 7 || err != nil {
		t.Errorf("without counting: %d, %v", n, err)
	}
}

func TestWhatDataStepsMayMend(t *testing.T) {
	d := Due{Texts: []string{"update tank set litres = 1 where litres < 0"}}
	for _, c := range []struct {
		table string
		names []string
		want  bool
	}{{"tank", nil, true}, {"tank", []string{"litres"}, true}, {"tank", []string{"name"}, false}, {"tan", nil, false},
		{"feeding", nil, false}} {
		if got := d.Mends(c.table, c.names...); got != c.want {
			t.Errorf("%s %v: %t", c.table, c.names, got)
		}
	}
	if !(Due{Texts: []string{"call mend_all()"}}).Mends("anything") {
		t.Error("a call may do anything")
	}
	for sql, want := range map[string]bool{"1": true, " -2.5 ": true, "'it''s'": true, "TRUE": true, "now()": false, "'a' || b": false,
		"litres": false, "": false} {
		if Constant(sql) != want {
			t.Errorf("%q is constant: %t", sql, !want)
		}
	}
}
