package spelling

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// part is a run of base, mine and theirs, each from and to: one that all have, or one
// that stands between such.
type part struct{ b, m, t [2]int }

// plain gives the text of a part of which no more than one side is different from base.
func (p part) plain(b, m, t []string) (string, bool) {
	base, mine, theirs := b[p.b[0]:p.b[1]], m[p.m[0]:p.m[1]], t[p.t[0]:p.t[1]]
	switch {
	case slices.Equal(base, theirs), slices.Equal(mine, theirs):
		return strings.Join(mine, ""), true
	case slices.Equal(base, mine):
		return strings.Join(theirs, ""), true
	}
	return "", false
}

// mostItems bounds the items of one list that are laid beside others.
const mostItems = 4_000_000

// parts lays three lists beside each other. It gives false when they are too long.
func parts(b, m, t []string) ([]part, bool) {
	if len(b) > mostItems || len(m) > mostItems || len(t) > mostItems {
		return nil, false
	}
	known := make(map[string]element.Digest, len(b))
	db, dm, dt := numbered(b, known), numbered(m, known), numbered(t, known)
	inM, inT := matched(db, dm), matched(db, dt)
	var out []part
	var at part // its ends are where the parts so far end
	for at.b[1] < len(b) || at.m[1] < len(m) || at.t[1] < len(t) {
		next := part{b: [2]int{at.b[1], at.b[1]}, m: [2]int{at.m[1], at.m[1]}, t: [2]int{at.t[1], at.t[1]}}
		for next.b[1] < len(b) && inM[next.b[1]] == next.m[1] && inT[next.b[1]] == next.t[1] {
			next.b[1], next.m[1], next.t[1] = next.b[1]+1, next.m[1]+1, next.t[1]+1
		}
		if next.b[0] == next.b[1] {
			i := next.b[0]
			for i < len(b) && (inM[i] < 0 || inT[i] < 0) {
				i++
			}
			if i < len(b) {
				next.b[1], next.m[1], next.t[1] = i, inM[i], inT[i]
			} else {
				next.b[1], next.m[1], next.t[1] = len(b), len(m), len(t)
			}
		}
		out, at = append(out, next), next
	}
	return out, true
}

// numbered gives each item a number of its own, in the form that lists are matched in.
func numbered(items []string, known map[string]element.Digest) []element.Digest {
	out := make([]element.Digest, len(items))
	for i, s := range items {
		d, ok := known[s]
		if !ok {
			for n, k := len(known)+1, 0; n > 0; n, k = n>>8, k+1 {
				d[k] = byte(n)
			}
			known[s] = d
		}
		out[i] = d
	}
	return out
}

// matched gives for each item of a where it is in b, -1 for none.
func matched(a, b []element.Digest) []int {
	out := make([]int, len(a))
	for i := range out {
		out[i] = -1
	}
	for _, p := range element.CommonRun(a, b) {
		out[p[0]] = p[1]
	}
	return out
}
