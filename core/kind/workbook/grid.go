package workbook

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// Somebody who puts a row in moves all that stand below it. To merge, the rows (and the
// columns) of three versions are given places on a common ground: those of the base, with
// what each side put in between.

// lane gives the rows, or columns, of one version their places on the common ground.
type lane struct {
	to []int // by own number, from 1; the first entry is unused
	// beyond is the common place of the first one behind all of these.
	beyond int
	// mixed says that the version has another order.
	mixed bool
}

func newLane(to []int, beyond int) lane {
	return lane{to, beyond, len(to) > 2 && !slices.IsSorted(to[1:])}
}

// common gives the common place of a row.
func (l lane) common(n int) int {
	if n < len(l.to) {
		return l.to[n]
	}
	return l.beyond + n - len(l.to)
}

// span gives the common places of the first and last one of a stretch. Where the order is
// another one, they are those of what the stretch has, as long as nothing else of the
// version stands between them.
func (l lane) span(first, last int) (int, int, bool) {
	lo, hi := l.common(first), l.common(last)
	if !l.mixed {
		return lo, hi, true
	}
	for n := first; n <= min(last, len(l.to)); n++ {
		lo, hi = min(lo, l.common(n)), max(hi, l.common(n))
	}
	among := 0
	for n := 1; n < len(l.to); n++ {
		if l.to[n] >= lo && l.to[n] <= hi {
			among++
		}
	}
	return lo, hi, last >= len(l.to) || among == last-first+1
}

// own is the reverse; false for a place that the version does not have.
func (l lane) own(c int) (int, bool) {
	if c >= l.beyond {
		return len(l.to) + c - l.beyond, true
	}
	i := slices.Index(l.to[min(1, len(l.to)):], c)
	return i + 1, i >= 0
}

// ground is the common ground of the rows, or columns, of a sheet.
type ground struct {
	base, mine, theirs lane
	// gone are the places whose row one side took away.
	gone []int
	same bool // nothing moved
}

// newGround lays out three versions. pm and pt give the base's row for each row of a side,
// from 1, and 0 for those that were put in.
func newGround(nb int, pm, pt []int, alike func(m, t int) bool) ground {
	var g ground
	// Rows at the end that a side has emptied are there all the same.
	for _, p := range []*[]int{&pm, &pt} {
		for i := max(slices.Max(append(*p, 0)), 0) + 1; i <= nb; i++ {
			*p = append(*p, i)
		}
	}
	put := func(p []int) map[int][]int { // by the row of the base that they follow
		out, last := map[int][]int{}, 0
		for j := 1; j < len(p); j++ {
			if p[j] > 0 {
				last = p[j]
			} else {
				out[last] = append(out[last], j)
			}
		}
		return out
	}
	top := max(nb, slices.Max(append(pm, 0)), slices.Max(append(pt, 0)))
	inM, inT := put(pm), put(pt)
	m, t := make([]int, len(pm)), make([]int, len(pt))
	base := make([]int, top+1)
	c := 0
	for i := 0; i <= top; i++ {
		if i > 0 {
			c++
			base[i] = c
		}
		both := len(inM[i]) == len(inT[i])
		for k := 0; both && k < len(inM[i]); k++ {
			both = alike(inM[i][k], inT[i][k])
		}
		for k, j := range inM[i] {
			c++
			if m[j] = c; both {
				t[inT[i][k]] = c
			}
		}
		for _, j := range inT[i] {
			if !both {
				c++
				t[j] = c
			}
		}
	}
	g.same = len(inM)+len(inT) == 0
	lanes := func(p, to []int) lane {
		has := map[int]bool{}
		last := nb
		for j := 1; j < len(p); j++ {
			if p[j] > 0 {
				to[j] = base[p[j]]
				has[p[j]] = true
				last = max(last, p[j])
				g.same = g.same && p[j] == j
			}
		}
		for i := 1; i <= nb; i++ {
			if !has[i] {
				g.gone = append(g.gone, base[i])
				g.same = false
			}
		}
		return newLane(to, base[last]+1)
	}
	g.base = newLane(base[:nb+1], base[nb]+1)
	g.mine, g.theirs = lanes(pm, m), lanes(pt, t)
	return g
}

// line is what stands in a row or column, by the number of the other one.
type line map[int]string

// likeness of two lines is the share of places that say the same, half of it when no words
// are among those: figures are alike by chance.
func likeness(a, b line) float64 {
	if len(a) == 0 || len(b) == 0 {
		return 0
	}
	same, words, spoken := 0, false, false
	for k, v := range a {
		_, err := strconv.ParseFloat(v, 64)
		spoken = spoken || err != nil && v != "="
		if b[k] == v {
			same++
			words = words || err != nil && v != "="
		}
	}
	out := float64(same) / float64(max(len(a), len(b)))
	if spoken && !words {
		out /= 2
	}
	return out
}

// least is the likeness from which on a line is the same one, edited.
const least = 0.3

// rewritten reports whether one line may be the other one, edited in its place.
func rewritten(was, is line) bool {
	return len(was) == 0 || len(is) == 0 || likeness(was, is) >= least
}

// anything lets a line be the other one: a column whose heading was rewritten.
func anything(_, _ line) bool { return true }

// mostPairs bounds the table of likenesses.
const mostPairs = 4 << 20

// pairLines tells for each line of a version, from 1, which of the base it is; 0 for one
// that was put in. What is alike stays in order; as many that are not, between the same
// neighbours, are the same ones rewritten where they may be. Behind all others, lines keep their numbers.
//
// That lines have moved takes evidence: two places at least say the same in lines that
// moved, and together the lines are more alike than they are where they stand. Else nobody
// has put anything in, and each line is the one of its number. evidence counts what says the
// same in two lines.
// It is doubtful when some seem to have moved, and that is not enough.
func pairLines(base, is []line, evidence func(i, j int) int, mayBe func(was, is line) bool) (p []int, doubtful bool) {
	p = make([]int, len(is))
	same := func(i, j int) bool {
		return len(base[i]) == len(is[j]) && (len(base[i]) == 0 || likeness(base[i], is[j]) == 1)
	}
	lo, hiB, hiI := 1, len(base), len(is)
	for lo < hiB && lo < hiI && same(lo, lo) {
		p[lo] = lo
		lo++
	}
	for hiB > lo && hiI > lo && same(hiB-1, hiI-1) {
		hiB--
		hiI--
		p[hiI] = hiB
	}
	between(base, is, lo, hiB, lo, hiI, p)
	if !shifted(base, is, evidence, p) {
		for j := 1; j < len(p); j++ {
			doubtful = doubtful || p[j] > 0 && p[j] != j
			p[j] = j
		}
		return p, doubtful
	}
	fill(p, base, is, lo, mayBe)
	return p, false
}

// shifted reports whether there is enough to say that lines have moved.
func shifted(base, is []line, evidence func(i, j int) int, p []int) bool {
	stay, move, same := 0.0, 0.0, 0
	for j := 1; j < len(is); j++ {
		if j < len(base) {
			stay += likeness(base[j], is[j])
		}
		if i := p[j]; i > 0 {
			move += likeness(base[i], is[j])
			if i != j {
				same += evidence(i, j)
			}
		}
	}
	return same >= 2 && move >= stay+0.5
}

// agreeing counts the places that say the same in two lines.
func agreeing(a, b line) int {
	n := 0
	for k, v := range a {
		if b[k] == v {
			n++
		}
	}
	return n
}

// sharing counts what two lines say, wherever in them.
func sharing(a, b line) int {
	has := map[string]int{}
	for _, v := range a {
		has[v]++
	}
	n := 0
	for _, v := range b {
		if has[v] > 0 {
			has[v]--
			n++
		}
	}
	return n
}

// between pairs the lines of two stretches: where they are long, first those that stand once
// in both.
func between(base, is []line, loB, hiB, loI, hiI int, p []int) {
	if hiB <= loB || hiI <= loI {
		return
	}
	if (hiB-loB)*(hiI-loI) <= mostPairs {
		likest(base[loB:hiB], is[loI:hiI], func(i, j int) { p[loI+j] = loB + i })
		return
	}
	for _, a := range anchors(base[loB:hiB], is[loI:hiI]) {
		i, j := loB+a[0], loI+a[1]
		p[j] = i
	}
	fromB, fromI := loB, loI
	found := false
	for j := loI; j < hiI; j++ {
		if p[j] == 0 {
			continue
		}
		found = true
		if (p[j]-fromB)*(j-fromI) <= mostPairs {
			between(base, is, fromB, p[j], fromI, j, p)
		}
		fromB, fromI = p[j]+1, j+1
	}
	if found && (hiB-fromB)*(hiI-fromI) <= mostPairs {
		between(base, is, fromB, hiB, fromI, hiI, p)
	}
}

// anchors gives the lines that stand once in each of two lists, as places in both, so that
// they have one order in the two.
func anchors(a, b []line) [][2]int {
	return element.Increasing(element.UniquePairs(digests(a), digests(b)))
}

func digests(list []line) []element.Digest {
	out := make([]element.Digest, len(list))
	for i, l := range list {
		out[i] = element.DigestOf([]byte(l.String()))
	}
	return out
}

// String writes a line so that equal ones are equal.
func (l line) String() string {
	var b strings.Builder
	for _, at := range slices.Sorted(maps.Keys(l)) {
		fmt.Fprintf(&b, "%d %q ", at, l[at])
	}
	return b.String()
}

// likest pairs lines in order so that the sum of their likenesses is greatest.
func likest(a, b []line, pair func(i, j int)) {
	width := len(b) + 1
	best := make([]float64, (len(a)+1)*width)
	like := make([]float64, len(a)*len(b))
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			s := likeness(a[i], b[j])
			if s < least {
				s = 0
			}
			like[i*len(b)+j] = s
			v := max(best[(i+1)*width+j], best[i*width+j+1])
			if s > 0 {
				v = max(v, best[(i+1)*width+j+1]+s)
			}
			best[i*width+j] = v
		}
	}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch s := like[i*len(b)+j]; {
		case s > 0 && best[i*width+j] == best[(i+1)*width+j+1]+s:
			pair(i, j)
			i++
			j++
		case best[i*width+j] == best[(i+1)*width+j]:
			i++
		default:
			j++
		}
	}
}

// fill pairs what is between two pairs in order, where there are as many on both sides and
// each may be the other one, and what is behind the last one.
func fill(p []int, base, is []line, lo int, mayBe func(was, is line) bool) {
	last, from := lo-1, lo
	for j := lo; j <= len(p); j++ {
		end := j == len(p)
		if !end && p[j] == 0 {
			continue
		}
		at := len(base)
		if !end {
			at = p[j]
		}
		for k := range j - from {
			switch i := last + 1 + k; {
			case end && i >= len(base):
				p[from+k] = i
			case (end || j-from == at-last-1) && mayBe(base[i], is[from+k]):
				p[from+k] = i
			}
		}
		if !end {
			last, from = p[j], j+1
		}
	}
}

// linesOf gives the rows and the columns of a sheet, and what stands first in each column,
// as headings do, by which columns are known.
func linesOf(sheet *element.Element) (rows, cols, heads []line) {
	rows, cols, heads = make([]line, 1), make([]line, 1), make([]line, 1)
	grow := func(list []line, n int) []line {
		for len(list) <= n {
			list = append(list, line{})
		}
		return list
	}
	first := map[int]int{} // the row of what stands first in a column
	for _, c := range sheet.Children {
		col, row, ok := place(c.Key)
		if c.Type != "cell" || !ok {
			continue
		}
		text := c.Prop(valueProperty).String()
		if !c.Prop(formulaProperty).IsAbsent() {
			text = "="
		}
		rows, cols, heads = grow(rows, row), grow(cols, col), grow(heads, col)
		if text == "" || c.Prop(valueProperty).IsAbsent() && text != "=" {
			continue
		}
		rows[row][col], cols[col][row] = text, text
		if at, known := first[col]; !known || row < at {
			first[col], heads[col] = row, line{0: text}
		}
	}
	return rows, cols, heads
}
