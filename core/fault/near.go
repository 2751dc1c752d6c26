package fault

import (
	"slices"
	"strings"
)

// Among notes which of some names a person may have meant by a word that names nothing.
func (e *Error) Among(word string, names []string) *Error {
	e.Near = Closest(word, names)
	return e
}

// mostNear bounds how many names are proposed.
const mostNear = 3

// Closest gives the names that a word may be a slip of: those at the smallest distance, when that is small, in which
// letters that changed places count once (optimal string alignment); else those that it begins.
func Closest(word string, names []string) []string {
	type near struct {
		name     string
		distance int
	}
	word = strings.ToLower(word)
	var found []near
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		other := strings.ToLower(name)
		d := distance([]rune(word), []rune(other))
		switch {
		case d <= allowed(word):
		case len(word) > 1 && strings.HasPrefix(other, word):
			d = allowed(word) + 1
		default:
			continue
		}
		found = append(found, near{name, d})
	}
	slices.SortStableFunc(found, func(a, b near) int { return a.distance - b.distance })
	var out []string
	for _, n := range found[:min(len(found), mostNear)] {
		if n.distance == found[0].distance {
			out = append(out, n.name)
		}
	}
	return out
}

// allowed is how far a slip of a word may be from what was meant.
func allowed(word string) int {
	return min(1+len([]rune(word))/6, 3)
}

// distance counts the letters that were put in, left out, replaced, or changed places with their neighbours.
func distance(a, b []rune) int {
	if n := len(a) - len(b); n > 3 || n < -3 {
		return 4 // more than any slip
	}
	before, last, row := []int(nil), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, make([]int, len(b)+1)
	}
	return last[len(b)]
}
