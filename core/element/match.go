package element

import (
	"cmp"
	"slices"
	"strings"
)

// pairing says which child of one list is which child of another: toB[i] is
// the index in b of a's i-th child, -1 when it is gone; toA is the reverse.
type pairing struct{ toB, toA []int }

func (p *pairing) pair(i, j int) { p.toB[i], p.toA[j] = j, i }

// alike is the least similarity at which keyless siblings count as the same
// thing edited; renamed the least for a keyed sibling under another key.
const (
	alike   = 0.5
	renamed = 0.75
	// weighty is the least number of properties and descendants of an element
	// that is recognised under another key: a bare one resembles too much.
	weighty = 3
	// gapCells bounds the similarity table of one gap.
	gapCells = 1 << 14
)

// match pairs the children of two elements that are the same thing.
func (m digests) match(a, b *Element) pairing {
	p := pairing{make([]int, len(a.Children)), make([]int, len(b.Children))}
	for i := range p.toB {
		p.toB[i] = -1
	}
	for j := range p.toA {
		p.toA[j] = -1
	}
	if aligned(a.Children, b.Children) {
		for i := range a.Children {
			p.pair(i, i)
		}
		return p
	}
	m.matchKeyed(a.Children, b.Children, &p)
	m.matchKeyless(a, b, &p)
	m.matchRenamed(a.Children, b.Children, &p)
	return p
}

func (m digests) matchKeyed(a, b []*Element, p *pairing) {
	type id struct{ typ, key string }
	where := make(map[id]int, len(a))
	for i, k := range a {
		if k.Key != "" {
			where[id{k.Type, k.Key}] = i
		}
	}
	for j, k := range b {
		if k.Key == "" {
			continue
		}
		if i, ok := where[id{k.Type, k.Key}]; ok && p.toB[i] < 0 {
			p.pair(i, j)
		}
	}
}

func (m digests) matchKeyless(a, b *Element, p *pairing) {
	ia, ib := m.trim(a.Children, b.Children, p)
	if len(ia) == 0 || len(ib) == 0 {
		return
	}
	if len(ia) == 1 && len(ib) == 1 {
		if a.Children[ia[0]].Type == b.Children[ib[0]].Type {
			p.pair(ia[0], ib[0])
		}
		return
	}
	da, db := m.sums(a.Children, ia), m.sums(b.Children, ib)
	if !a.Ordered || !b.Ordered {
		for _, q := range firstPairs(da, db) {
			p.pair(ia[q[0]], ib[q[1]])
		}
		m.likest(a.Children, b.Children, open(ia, p.toB), open(ib, p.toA), alike, p)
		pairSingles(a.Children, b.Children, ia, ib, p)
		return
	}
	pa, pb := 0, 0
	for _, q := range append(CommonRun(da, db), [2]int{len(da), len(db)}) {
		m.alignGap(a.Children, b.Children, ia[pa:q[0]], ib[pb:q[1]], p)
		pairSingles(a.Children, b.Children, ia[pa:q[0]], ib[pb:q[1]], p)
		if q[0] < len(da) {
			p.pair(ia[q[0]], ib[q[1]])
		}
		pa, pb = q[0]+1, q[1]+1
	}
}

// trim pairs equal keyless children at the beginning and at the end of two lists,
// and gives the places of those between.
func (m digests) trim(a, b []*Element, p *pairing) (ia, ib []int) {
	ia, ib = keyless(a), keyless(b)
	for len(ia) > 0 && len(ib) > 0 && m.same(a[ia[0]], b[ib[0]]) {
		p.pair(ia[0], ib[0])
		ia, ib = ia[1:], ib[1:]
	}
	for len(ia) > 0 && len(ib) > 0 && m.same(a[ia[len(ia)-1]], b[ib[len(ib)-1]]) {
		p.pair(ia[len(ia)-1], ib[len(ib)-1])
		ia, ib = ia[:len(ia)-1], ib[:len(ib)-1]
	}
	return ia, ib
}

func keyless(kids []*Element) []int {
	var at []int
	for i, k := range kids {
		if k.Key == "" {
			at = append(at, i)
		}
	}
	return at
}

func (m digests) sums(kids []*Element, at []int) []Digest {
	out := make([]Digest, len(at))
	for i, k := range at {
		out[i] = m.of(kids[k]).whole
	}
	return out
}

func open(at, taken []int) []int {
	var out []int
	for _, i := range at {
		if taken[i] < 0 {
			out = append(out, i)
		}
	}
	return out
}

// alignGap pairs edited siblings between two anchors, in order, so that the
// sum of similarities is greatest.
func (m digests) alignGap(a, b []*Element, ia, ib []int, p *pairing) {
	if len(ia) == 0 || len(ib) == 0 {
		return
	}
	if len(ia)*len(ib) > gapCells {
		for k := range min(len(ia), len(ib)) {
			if m.similar(a[ia[k]], b[ib[k]]) >= alike {
				p.pair(ia[k], ib[k])
			}
		}
		return
	}
	w := len(ib) + 1
	score, best := make([]float64, len(ia)*w), make([]float64, (len(ia)+1)*w)
	for i := len(ia) - 1; i >= 0; i-- {
		for j := len(ib) - 1; j >= 0; j-- {
			s := m.similar(a[ia[i]], b[ib[j]])
			score[i*w+j] = s
			best[i*w+j] = max(best[(i+1)*w+j], best[i*w+j+1])
			if s >= alike {
				best[i*w+j] = max(best[i*w+j], best[(i+1)*w+j+1]+s)
			}
		}
	}
	for i, j := 0, 0; i < len(ia) && j < len(ib); {
		s := score[i*w+j]
		switch {
		case s >= alike && best[i*w+j] == best[(i+1)*w+j+1]+s:
			p.pair(ia[i], ib[j])
			i, j = i+1, j+1
		case best[(i+1)*w+j] >= best[i*w+j+1]:
			i++
		default:
			j++
		}
	}
}

// pairSingles pairs what is left in a gap when it is the only one of its type
// on both sides: one thing stands where one stood.
func pairSingles(a, b []*Element, ia, ib []int, p *pairing) {
	single := func(kids []*Element, at, taken []int) map[string]int {
		out := map[string]int{}
		for _, i := range open(at, taken) {
			typ := kids[i].Type
			if _, again := out[typ]; again {
				i = -1
			}
			out[typ] = i
		}
		return out
	}
	inB := single(b, ib, p.toA)
	for typ, i := range single(a, ia, p.toB) {
		if j, ok := inB[typ]; ok && i >= 0 && j >= 0 {
			p.pair(i, j)
		}
	}
}

// likest pairs greedily by best similarity, ties by order.
func (m digests) likest(a, b []*Element, ia, ib []int, least float64, p *pairing) {
	greedily(a, b, ia, ib, least, m.similar, p)
}

// greedily pairs by the best score, ties by order.
func greedily(a, b []*Element, ia, ib []int, least float64, score func(a, b *Element) float64, p *pairing) {
	if len(ia)*len(ib) > gapCells {
		return
	}
	type candidate struct {
		i, j  int
		score float64
	}
	var all []candidate
	for _, i := range ia {
		for _, j := range ib {
			if s := score(a[i], b[j]); s >= least {
				all = append(all, candidate{i, j, s})
			}
		}
	}
	slices.SortStableFunc(all, func(x, y candidate) int { return cmp.Compare(y.score, x.score) })
	for _, c := range all {
		if p.toB[c.i] < 0 && p.toA[c.j] < 0 {
			p.pair(c.i, c.j)
		}
	}
}

// matchRenamed pairs what is left under another key: equal content first, then
// close likeness.
func (m digests) matchRenamed(a, b []*Element, p *pairing) {
	candidates := func(kids []*Element, taken []int) (at []int, sums []Digest) {
		for i, k := range kids {
			if taken[i] < 0 && k.Key != "" && !k.Firm && len(k.Props)+k.Count()-1 >= weighty {
				at, sums = append(at, i), append(sums, m.of(k).body)
			}
		}
		return at, sums
	}
	ia, da := candidates(a, p.toB)
	ib, db := candidates(b, p.toA)
	if len(ia) == 0 || len(ib) == 0 {
		return
	}
	for _, q := range UniquePairs(da, db) {
		p.pair(ia[q[0]], ib[q[1]])
	}
	m.likest(a, b, open(ia, p.toB), open(ib, p.toA), renamed, p)
}

// similar gives a likeness from 0 to 1 of two elements of one type, from their
// properties and children; keys take no part.
func (m digests) similar(a, b *Element) float64 {
	if a.Type != b.Type {
		return 0
	}
	if m.sameBody(a, b) {
		return 1
	}
	total, same := 0.0, 0.0
	for _, p := range a.Props {
		total++
		if q := b.Prop(p.Name); p.Value.Equal(q) {
			same++
		} else if p.Value.sort == Text && q.sort == Text {
			same += textLikeness(p.Value.text, q.text)
		}
	}
	for _, q := range b.Props {
		if a.Prop(q.Name).IsAbsent() {
			total++
		}
	}
	if n := max(len(a.Children), len(b.Children)); n > 0 {
		total += float64(n)
		same += float64(m.sharedKids(a, b))
	}
	if total == 0 {
		return 1
	}
	return same / total
}

func (m digests) sharedKids(a, b *Element) int {
	count := make(map[Digest]int, len(a.Children))
	for _, k := range a.Children {
		count[m.of(k).whole]++
	}
	n := 0
	for _, k := range b.Children {
		if d := m.of(k).whole; count[d] > 0 {
			count[d]--
			n++
		}
	}
	return n
}

// textLikeness is the Dice coefficient of the two texts' pairs of neighbouring
// bytes, outer white space left out. Long texts are judged by their first 4 KiB.
func textLikeness(s, t string) float64 {
	s, t = strings.TrimSpace(s[:min(len(s), 4096)]), strings.TrimSpace(t[:min(len(t), 4096)])
	if s == t {
		return 1
	}
	if len(s) < 2 || len(t) < 2 {
		return 0
	}
	count := make(map[[2]byte]int, len(s))
	for i := range len(s) - 1 {
		count[[2]byte{s[i], s[i+1]}]++
	}
	n := 0
	for i := range len(t) - 1 {
		if p := [2]byte{t[i], t[i+1]}; count[p] > 0 {
			count[p]--
			n++
		}
	}
	return 2 * float64(n) / float64(len(s)+len(t)-2)
}
