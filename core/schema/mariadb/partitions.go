package mariadb

import (
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// partitionList takes what stands behind `partition by` apart: how rows are parted, and the
// partitions, in their order. list is empty where these are only counted.
func partitionList(text string) (head string, list []string) {
	ts, err := Dialect.Scan(text)
	if err != nil {
		return text, nil
	}
	depth := 0
	for i, t := range ts {
		switch {
		case t.Is("("):
			if depth == 0 && i+1 < len(ts) && ts[i+1].Is("partition") {
				c := &sqltext.Cursor{Tokens: ts, At: i}
				for _, part := range sqltext.Commas(sqltext.Inside(c.Group())) {
					list = append(list, text[part[0].From:part[len(part)-1].To])
				}
				if c.More() {
					return text, nil
				}
				return strings.TrimSpace(text[:t.From]), list
			}
			depth++
		case t.Is(")"):
			depth--
		}
	}
	return text, nil
}

// partitionName gives the name of a partition as it is written.
func partitionName(text string) string {
	if f := strings.Fields(text); len(f) > 1 {
		return f[1]
	}
	return text
}

// repartition plans other partitions. One that only comes to the others is added, or split off the
// one that had its rows, so that all others stay as they are on disk (MariaDB, "Partition
// Maintenance"); else all rows are parted anew.
func repartition(l, w *element.Element) (what string, effect Effect, sql string) {
	table, to := "alter table "+ident(w.Key), textOf(w, "partition by")
	if to == "" {
		return "part the table no more", Rewrites, table + " remove partitioning"
	}
	what, effect, sql = "change the partitions", Rewrites, table+" partition by "+to
	head, was := partitionList(textOf(l, "partition by"))
	other, is := partitionList(to)
	if head != other || len(was) == 0 || len(is) <= len(was) {
		return what, effect, sql
	}
	n := 0
	for n < len(was) && was[n] == is[n] {
		n++
	}
	if !slices.Equal(was[n:], is[len(is)-len(was)+n:]) {
		return what, effect, sql
	}
	fresh := is[n : len(is)-len(was)+n]
	var names []string
	for _, f := range fresh {
		names = append(names, partitionName(f))
	}
	switch rest := was[n:]; {
	case len(rest) == 0:
		return "add the partition " + strings.Join(names, ", "), Instant, table + " add partition (" + strings.Join(fresh, ", ") + ")"
	case strings.HasPrefix(strings.ToLower(head), "range"):
		return "split the partition " + strings.Join(names, ", ") + " off " + partitionName(rest[0]), Rewrites,
			table + " reorganize partition " + partitionName(rest[0]) + " into (" +
				strings.Join(append(slices.Clone(fresh), rest[0]), ", ") + ")"
	}
	return what, effect, sql
}
