package screen

import "strings"

// linesAround and linesShown bound what is shown of texts: lines that all have, before and behind what differs, and lines
// that differ.
const (
	linesAround = 1
	linesShown  = 8
)

// Around gives, of texts that are not all alike, the lines in which they differ, with a line before and behind; … stands for
// what is left out.
func Around(texts ...string) [][]string {
	all := make([][]string, len(texts))
	for i, s := range texts {
		all[i] = strings.Split(strings.TrimRight(s, "\n"), "\n")
	}
	same := func(at func(lines []string) (string, bool)) bool {
		first, ok := at(all[0])
		for _, lines := range all {
			line, has := at(lines)
			if !ok || !has || line != first {
				return false
			}
		}
		return true
	}
	before := 0
	for same(func(lines []string) (string, bool) {
		if before >= len(lines) {
			return "", false
		}
		return lines[before], true
	}) {
		before++
	}
	behind := 0
	for same(func(lines []string) (string, bool) {
		if at := len(lines) - 1 - behind; at >= before {
			return lines[at], true
		}
		return "", false
	}) {
		behind++
	}
	out := make([][]string, len(texts))
	for i, lines := range all {
		out[i] = around(lines, before, behind)
	}
	return out
}

func around(lines []string, before, behind int) (out []string) {
	from, to := max(before-linesAround, 0), min(len(lines)-behind+linesAround, len(lines))
	if from > 0 {
		out = append(out, "…")
	}
	shown := lines[from:to]
	cut := len(shown) > linesShown
	if cut {
		shown = shown[:linesShown]
	}
	out = append(out, shown...)
	if cut || to < len(lines) {
		out = append(out, "…")
	}
	return out
}
