package cli

import (
	"path"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/state"
)

// What is told for people says the same thing once: a folder that was renamed, an equal change in many
// places. --all has each in its line, as scripts have.

// leastRepeated is from how many lines on equal ones are told as one.
const leastRepeated = 5

// renamedFolder gives what was renamed when a file moved: the paths less what both end with.
func renamedFolder(from, to string) (string, string) {
	for from != "." && to != "." && path.Base(from) == path.Base(to) && path.Dir(from) != path.Dir(to) {
		from, to = path.Dir(from), path.Dir(to)
	}
	return from, to
}

// gatherMoves takes the artifacts that moved with a folder out of a list, and gives a line for each such
// folder.
func (a *App) gatherMoves(diffs []state.Difference) (rest []state.Difference, rows [][]screen.Cell) {
	type pair struct{ from, to string }
	of := func(d state.Difference) (pair, bool) {
		if len(d.Changes) != 1 || d.Changes[0].Kind != element.Moved || !d.Changes[0].Address.Whole() {
			return pair{}, false
		}
		from, to := renamedFolder(d.Changes[0].From.Text(), d.Changes[0].To.Text())
		return pair{from, to}, from != d.Changes[0].From.Text()
	}
	moved := map[pair]int{}
	for _, d := range diffs {
		if p, ok := of(d); ok {
			moved[p]++
		}
	}
	done := map[pair]bool{}
	for _, d := range diffs {
		p, ok := of(d)
		switch {
		case a.All || !ok || moved[p] < 2:
			rest = append(rest, d)
		case !done[p]:
			done[p] = true
			rows = append(rows, []screen.Cell{screen.Plain.Cell(shownFolder(p.to)),
				screen.Warm.Cell("moved  " + shownFolder(p.from) + " → " + shownFolder(p.to) + ", " + screen.Count(moved[p], "artifact"))})
		}
	}
	return rest, rows
}

// shownFolder writes a folder's path; the project's own is /.
func shownFolder(p string) string {
	if p == "." {
		return "/"
	}
	return p + "/"
}

// repeated tells equal changes in many places as one: the first, with how many there are.
func (a *App) repeated(list []toldChange) []toldChange {
	if a.All {
		return list
	}
	type like struct{ typ, property, text string }
	of := func(c toldChange) like {
		typ := ""
		if n := len(c.address.Steps); n > 0 {
			typ = c.address.Steps[n-1].Type
		}
		return like{typ, c.address.Property, c.text}
	}
	same := map[like]int{}
	for _, c := range list {
		same[of(c)]++
	}
	var out []toldChange
	done := map[like]bool{}
	for _, c := range list {
		l := of(c)
		if same[l] < leastRepeated || c.address.Whole() {
			out = append(out, c)
			continue
		}
		if !done[l] {
			done[l] = true
			c.more = same[l] - 1
			out = append(out, c)
		}
	}
	return out
}

// shortAddress writes an address for a terminal: one that is too long for it is shortened in the middle.
func (a *App) shortAddress(at string) string {
	if a.Width <= 0 || a.All {
		return at
	}
	return screen.Middle(at, max(a.Width*3/5, 40))
}

// gatherRenames gives, of files that moved, how many went along with each folder that was renamed, by what
// is shown of it.
func gatherRenames(moves [][2]string) map[[2]string]int {
	out := map[[2]string]int{}
	for _, m := range moves {
		if from, to := renamedFolder(m[0], m[1]); from != m[0] {
			out[[2]string{from, to}]++
		}
	}
	for k, n := range out {
		if n < 2 {
			delete(out, k)
		}
	}
	return out
}
