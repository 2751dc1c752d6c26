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

// apart gives the text of a part from which both sides only took away, or where the two
// changed other items: what one side put in stands beside nothing that the other took away.
func (p part) apart(b, m, t []string, sense Sense) (string, bool) {
	base, mine, theirs := b[p.b[0]:p.b[1]], m[p.m[0]:p.m[1]], t[p.t[0]:p.t[1]]
	if len(base) > mostApart || len(mine) > mostApart || len(theirs) > mostApart {
		return "", false
	}
	known := map[string]element.Digest{}
	db := numbered(base, known)
	x, y := gapsOf(mine, matched(db, numbered(mine, known))), gapsOf(theirs, matched(db, numbered(theirs, known)))
	var out strings.Builder
	for i := range len(base) + 1 {
		switch one, two := x.put[i], y.put[i]; {
		case one != "" && two != "" && one != two && (sense == Edits || x.end(i) > i && y.end(i) > i):
			return "", false
		case one != "" && two != "" && one != two && x.end(i) > i: // what stands in the place of others comes behind what is only put in
			out.WriteString(two + one)
		case one != "" && two != "" && one != two:
			out.WriteString(one + two)
		case sense == Edits && (one != "" && (y.touches(i) || y.touches(x.end(i))) || two != "" && (x.touches(i) || x.touches(y.end(i)))):
			return "", false
		case i < len(base) && x.gone[i] && y.gone[i] && x.instead(i) != y.instead(i):
			return "", false // one side took away what the other rewrote
		case one != "":
			out.WriteString(one)
		default:
			out.WriteString(two)
		}
		if i < len(base) && !x.gone[i] && !y.gone[i] {
			out.WriteString(base[i])
		}
	}
	return out.String(), true
}

// mostApart bounds the items of a part that apart looks at.
const mostApart = 2000

// gaps is one side of a part against the base: what it took away, and what it put in
// before each item and behind the last.
type gaps struct {
	gone []bool
	put  []string
}

func gapsOf(side []string, in []int) gaps {
	g := gaps{make([]bool, len(in)), make([]string, len(in)+1)}
	at, place := 0, 0 // what stands in the place of items that are gone stands before them
	for i, j := range in {
		if j < 0 {
			g.gone[i] = true
			continue
		}
		g.put[place] += strings.Join(side[at:j], "")
		at, place = j+1, i+1
	}
	g.put[place] += strings.Join(side[at:], "")
	return g
}

// instead gives what stands in the place of an item that is gone.
func (g gaps) instead(i int) string {
	for i > 0 && g.gone[i-1] {
		i--
	}
	return g.put[i]
}

// end gives the gap behind the items that are gone behind a gap.
func (g gaps) end(i int) int {
	for i < len(g.gone) && g.gone[i] {
		i++
	}
	return i
}

// touches reports whether the items beside a gap were taken away.
func (g gaps) touches(i int) bool {
	return i > 0 && g.gone[i-1] || i < len(g.gone) && g.gone[i]
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
