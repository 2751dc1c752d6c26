package environment

import (
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/shape"
)

// Rename is a column of a table, or a table, that seems to have another name than it had.
type Rename struct {
	// Into is the folder of the project, where an environment has several.
	Into string
	// Table is that of a column; empty for a table.
	Table, From, To string
	// Sure says that it is no new column: the engine puts such last, and this one stands before
	// another that was there.
	Sure bool
}

// Renames finds, in each table that is there before and after, columns that went while one of
// just the same definition came, where there is one of each alone. addsLast says that the
// engine puts new columns behind all others. Tables are found by having just the same columns.
func Renames(was, is *element.Element, addsLast bool) (out []Rename) {
	out = renamedTables(was, is)
	for _, e := range was.Children {
		other := sameKey(is, e)
		switch {
		case other == nil:
		case e.Type == "schema":
			out = append(out, Renames(e, other, addsLast)...)
		case e.Type == "table":
			out = append(out, renamedIn(e, other, addsLast)...)
		}
	}
	return out
}

// renamedTables finds tables that went while one of just the same columns came, where there is one
// of each alone.
func renamedTables(was, is *element.Element) (out []Rename) {
	alone := func(of, without *element.Element) map[element.Digest][]string {
		found := map[element.Digest][]string{}
		for _, e := range of.Children {
			if all, _ := columnsOf(e, e); e.Type == "table" && sameKey(without, e) == nil && len(all) > 0 {
				columns := &element.Element{Children: all}
				found[columns.Sum()] = append(found[columns.Sum()], e.Key)
			}
		}
		return found
	}
	come := alone(is, was)
	for columns, gone := range alone(was, is) {
		if len(gone) == 1 && len(come[columns]) == 1 {
			out = append(out, Rename{From: gone[0], To: come[columns][0]})
		}
	}
	slices.SortFunc(out, func(a, b Rename) int { return strings.Compare(a.From, b.From) })
	return out
}

func sameKey(in, e *element.Element) *element.Element {
	i := slices.IndexFunc(in.Children, func(x *element.Element) bool { return x.Type == e.Type && x.Key == e.Key })
	if i < 0 {
		return nil
	}
	return in.Children[i]
}

func columnsOf(table, without *element.Element) (all, only []*element.Element) {
	for _, c := range table.Children {
		if c.Type == "column" {
			all = append(all, c)
			if sameKey(without, c) == nil {
				only = append(only, c)
			}
		}
	}
	return all, only
}

func renamedIn(was, is *element.Element, addsLast bool) (out []Rename) {
	before, gone := columnsOf(was, is)
	now, come := columnsOf(is, was)
	alike := func(a, b *element.Element) bool { return shape.SameProps(a, b, func(string) bool { return true }) }
	for _, a := range gone {
		var found []*element.Element
		for _, b := range come {
			if alike(a, b) {
				found = append(found, b)
			}
		}
		rivals := 0
		for _, o := range gone {
			if len(found) == 1 && alike(o, found[0]) {
				rivals++
			}
		}
		if len(found) != 1 || rivals != 1 {
			continue
		}
		r := Rename{Table: was.Key, From: a.Key, To: found[0].Key}
		if addsLast { // another that was there stands behind it
			for _, o := range now[slices.Index(now, found[0])+1:] {
				r.Sure = r.Sure || slices.ContainsFunc(before, func(x *element.Element) bool { return x.Key == o.Key })
			}
		}
		out = append(out, r)
	}
	return out
}

var tableHead = regexp.MustCompile(`(?i)^\s*create\s+(?:unlogged\s+|temporary\s+)?table\s+(?:if\s+not\s+exists\s+)?(\S+)`)

// SayFormerly writes into the file of a table, among files that a capture changes, what it or a
// column was called; it reports whether it found the place.
func SayFormerly(edits Files, r Rename) bool {
	plain := func(s string) string { return strings.ToLower(strings.Trim(s, "\"`")) }
	for name, data := range edits {
		if r.Into != "" && !strings.HasPrefix(name, r.Into+"/") {
			continue
		}
		lines := strings.Split(string(data), "\n")
		inside := false
		for i, line := range lines {
			if m := tableHead.FindStringSubmatch(line); m != nil {
				table := m[1][strings.LastIndexByte(m[1], '.')+1:]
				is := plain(strings.TrimSuffix(table, "("))
				if r.Table == "" && is == strings.ToLower(r.To) {
					edits[name] = []byte(strings.Join(slices.Insert(lines, i, "-- formerly: "+r.From), "\n"))
					return true
				}
				inside = r.Table != "" && is == strings.ToLower(r.Table)
				continue
			}
			words := strings.Fields(line)
			if !inside || len(words) < 2 || plain(words[0]) != strings.ToLower(r.To) || strings.Contains(line, "--") {
				continue
			}
			lines[i] = line + " -- formerly: " + r.From
			edits[name] = []byte(strings.Join(lines, "\n"))
			return true
		}
	}
	return false
}
