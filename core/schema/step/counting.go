package step

import (
	"slices"
	"strings"
	"time"
)

// Counting asks the rows of big tables once for all that a plan wants to know of them: the plan is
// worked out for a rehearsal in which all counts are none, and what it asked is put into one query
// for each table. What is asked besides, when the plan is worked out in earnest, is asked by itself.
type Counting struct {
	// Progress, when set, is told which table is read, of how many, again and again.
	Progress   func(table string, done, of int)
	rehearsing bool
	asked      map[string][]string // conditions by table; an empty one counts all rows
	known      map[[2]string]int64
}

// Rehearse begins a rehearsal.
func (c *Counting) Rehearse() {
	c.rehearsing, c.asked, c.known = true, map[string][]string{}, map[[2]string]int64{}
}

// Rehearsing reports whether this is one.
func (c *Counting) Rehearsing() bool { return c != nil && c.rehearsing }

// Rows counts the rows of a table that a condition chooses, by what is known or by run.
func (c *Counting) Rows(table, where string, run func(query string) (int64, error)) (int64, error) {
	if c.Rehearsing() {
		if !slices.Contains(c.asked[table], where) {
			c.asked[table] = append(c.asked[table], where)
		}
		return 0, nil
	}
	if c != nil {
		if n, ok := c.known[[2]string{table, where}]; ok {
			return n, nil
		}
	}
	query := "select count(*) from " + table
	if where != "" {
		query += " where " + where
	}
	return run(query)
}

// Ask ends the rehearsal and asks what was wanted in it, one query for each table; how writes a
// count of the rows that a condition chooses. A table that does not answer all at once, because one
// of the conditions fails, is asked one by one afterwards.
func (c *Counting) Ask(how func(condition string) string, run func(query string, numbers int) ([]int64, error)) {
	c.rehearsing = false
	tables := make([]string, 0, len(c.asked))
	for table := range c.asked {
		tables = append(tables, table)
	}
	slices.Sort(tables)
	for i, table := range tables {
		var parts []string
		for _, where := range c.asked[table] {
			if where == "" {
				parts = append(parts, "count(*)")
			} else {
				parts = append(parts, how(where))
			}
		}
		over := c.telling(table, i, len(tables))
		numbers, err := run("select "+strings.Join(parts, ", ")+" from "+table, len(parts))
		over()
		if err != nil {
			continue
		}
		for k, where := range c.asked[table] {
			c.known[[2]string{table, where}] = numbers[k]
		}
	}
	if c.Progress != nil && len(tables) > 0 {
		c.Progress("", len(tables), len(tables))
	}
}

// telling tells which table is read, again and again until that is over.
func (c *Counting) telling(table string, done, of int) (over func()) {
	if c.Progress == nil {
		return func() {}
	}
	c.Progress(table, done, of)
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				c.Progress(table, done, of)
			}
		}
	}()
	return func() { close(stop); <-stopped }
}
