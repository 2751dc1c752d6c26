package workbook

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// A recipe may say by which columns the rows of a sheet are known. Then two people may sort
// and fill it, wherever a row stands.

var _ kind.RowKeyed = Kind{}

// WithRowKeys gives the kind with the headings of the columns that tell rows apart, by the
// names of sheets; * stands for all others.
func (k Kind) WithRowKeys(keys map[string][]string) kind.Kind {
	k.keys = keys
	return k
}

// keysOf gives the headings for a sheet, nil for none.
func (k Kind) keysOf(sheet string) []string {
	if keys, ok := k.keys[sheet]; ok {
		return keys
	}
	return k.keys["*"]
}

// rowNames names the rows of a sheet: those down to the headings by their number, records
// by their keys, and what is below them by its distance. ok is false when the headings are
// missing, or two records have one key.
func rowNames(sheet *element.Element, headings []string) (names []string, ok bool) {
	texts := map[int]map[int]string{}
	last := 0
	for _, c := range sheet.Children {
		col, row, in := place(c.Key)
		if c.Type != "cell" || !in {
			continue
		}
		last = max(last, row)
		if v := c.Prop(valueProperty); !v.IsAbsent() && v.String() != "" {
			if texts[row] == nil {
				texts[row] = map[int]string{}
			}
			texts[row][col] = v.String()
		}
	}
	head, at := 0, []int(nil)
	for row := 1; row <= last && head == 0; row++ {
		if at = columnsOf(texts[row], headings); at != nil {
			head = row
		}
	}
	if head == 0 {
		return nil, false
	}
	names = make([]string, last+1)
	seen, below := map[string]bool{}, 0
	for row := 1; row <= last; row++ {
		key := make([]string, len(at))
		for i, col := range at {
			key[i] = texts[row][col]
		}
		name := strings.Join(key, "\x00")
		switch {
		case row <= head:
			names[row] = "head " + strconv.Itoa(row)
		case below > 0 || slices.Contains(key, ""):
			below++
			names[row] = belowRecords + strconv.Itoa(below)
		case seen[name]:
			return nil, false
		default:
			seen[name], names[row] = true, "record "+name
		}
	}
	return names, true
}

// belowRecords begins the names of rows below all records.
const belowRecords = "below "

// columnsOf gives the columns that have some headings, nil when one is missing.
func columnsOf(row map[int]string, headings []string) []int {
	var out []int
	for _, h := range headings {
		found := 0
		for col, text := range row {
			if text == h {
				found = col
			}
		}
		if found == 0 {
			return nil
		}
		out = append(out, found)
	}
	return out
}

// byNames gives the common ground of rows that have names. One side may have put them into
// another order.
func byNames(b, m, t []string) (ground, error) {
	order := b
	switch {
	case sameOrder(b, m):
		if !sameOrder(b, t) {
			order = t
		}
	case sameOrder(b, t), sameOrder(m, t):
		order = m
	default:
		return ground{}, errors.New("both have sorted the rows of a sheet")
	}
	// What the others have besides follows what it stands behind there, or, at the end of all
	// records, what is the last one here.
	behind, has, end := map[string][]string{}, map[string]bool{}, ""
	for _, name := range order[1:] {
		if has[name] = true; !strings.HasPrefix(name, belowRecords) {
			end = name
		}
	}
	for _, v := range [][]string{b, m, t} {
		tail := len(v)
		for tail > 1 && (strings.HasPrefix(v[tail-1], belowRecords) || !has[v[tail-1]]) {
			tail--
		}
		last := ""
		for j, name := range v[1:] {
			if j+1 == tail && !strings.HasPrefix(name, belowRecords) {
				last = end
			}
			if !has[name] {
				has[name] = true
				behind[last] = append(behind[last], name)
			}
			last = name
		}
	}
	var all []string
	var put func(name string)
	put = func(name string) {
		if name != "" {
			all = append(all, name)
		}
		for _, n := range behind[name] {
			put(n)
		}
	}
	put("")
	for _, name := range order[1:] {
		put(name)
	}
	place := make(map[string]int, len(all))
	for i, name := range all {
		place[name] = i + 1
	}
	g := ground{same: true}
	to := func(names []string) lane {
		l := make([]int, len(names))
		for j := 1; j < len(names); j++ {
			l[j] = place[names[j]]
			g.same = g.same && l[j] == j
		}
		return newLane(l, len(all)+1)
	}
	g.base, g.mine, g.theirs = to(b), to(m), to(t)
	inM, inT := map[string]bool{}, map[string]bool{}
	for _, name := range m[1:] {
		inM[name] = true
	}
	for _, name := range t[1:] {
		inT[name] = true
	}
	for _, name := range b[1:] {
		if !inM[name] || !inT[name] {
			g.gone, g.same = append(g.gone, place[name]), false
		}
	}
	return g, nil
}

// sameOrder reports whether what two lists have in common stands in one order.
func sameOrder(a, b []string) bool {
	at := map[string]int{}
	for i, name := range a[1:] {
		at[name] = i + 1
	}
	last := 0
	for _, name := range b[1:] {
		if i := at[name]; i > 0 {
			if i < last {
				return false
			}
			last = i
		}
	}
	return true
}
