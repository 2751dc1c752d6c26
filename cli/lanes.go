package cli

import (
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"

	"oakenchest/core/history"
	"oakenchest/core/ledger"
)

func itoa(n int) string { return strconv.Itoa(n) }

// drawLanes draws a column for each branch: its name on top, a dot at each of
// its commits, a line while it lives, and an arc where it parted or was merged.
// The first line has the names; then there is one for each entry.
func drawLanes(entries []history.Entry) []string {
	row := map[ledger.ID]int{}
	for i, e := range entries {
		row[e.Commit.ID] = i
	}
	var names []string
	lane := map[string]int{}
	for _, e := range entries {
		if _, ok := lane[e.Commit.Branch]; !ok {
			lane[e.Commit.Branch] = len(names)
			names = append(names, e.Commit.Branch)
		}
	}
	grid := make([][]rune, len(entries))
	for i := range grid {
		grid[i] = []rune(strings.Repeat(" ", len(names)))
	}
	for i, e := range entries {
		own := lane[e.Commit.Branch]
		grid[i][own] = '●'
		for _, p := range e.Commit.Parents {
			to, listed := row[p]
			if !listed {
				to = len(entries)
			}
			column := own
			if listed && lane[entries[to].Commit.Branch] != own && p != e.Commit.Parents[0] {
				column = lane[entries[to].Commit.Branch] // merged: the line is the other's
				grid[i][column] = mergeArc(grid[i][column], column < own)
			}
			for k := i + 1; k < to; k++ {
				if grid[k][column] == ' ' {
					grid[k][column] = '│'
				}
			}
			if listed && column == own && lane[entries[to].Commit.Branch] != own && grid[to][own] == ' ' {
				grid[to][own] = '╯'
			}
		}
	}
	widths := make([]int, len(names))
	out := make([]string, len(entries)+1)
	for i, n := range names {
		widths[i] = max(runewidth.StringWidth(n), 1) + 2
		out[0] += n + "  "
	}
	for i, cells := range grid {
		var b strings.Builder
		from, to := span(cells)
		for k, c := range cells {
			if k > from && k < to { // the line leads past this lane
				switch c {
				case ' ':
					c = '─'
				case '│':
					c = '┼'
				}
			}
			b.WriteRune(c)
			fill := " "
			if k >= from && k < to {
				fill = "─"
			}
			b.WriteString(strings.Repeat(fill, widths[k]-1))
		}
		out[i+1] = strings.TrimRight(b.String(), " ")
	}
	out[0] = strings.TrimRight(out[0], " ")
	return out
}

// mergeArc gives the sign where the line of a merge turns into the lane that was merged,
// which lies left of the dot or right of it; a line that passes there goes on.
func mergeArc(there rune, left bool) rune {
	switch {
	case there == '│' && left:
		return '├'
	case there == '│':
		return '┤'
	case there != ' ':
		return there
	case left:
		return '╭'
	}
	return '╮'
}

// span gives the first and the last lane of a row that a line from its dot leads to.
func span(cells []rune) (from, to int) {
	from, to = -1, -1
	for k, c := range cells {
		switch c {
		case '●', '╮', '╯', '┤', '╭', '├':
			if from < 0 {
				from = k
			}
			to = k
		}
	}
	return from, to
}
