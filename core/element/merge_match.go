package element

import (
	"slices"
	"strings"
)

// pairs3 says who is who among the children of three versions. What was paired with the
// base by little more than its place is no more than a guess; where both sides changed the
// same child it is doubtful that it is one thing, and nobody's edit must land on another.
func (g *merger) pairs3(b, m, t *Element) (pm, pt pairing, doubtful map[int]bool) {
	pm, pt = g.sums.match(b, m), g.sums.match(b, t)
	copies := anyDoubled(b.Children) || anyDoubled(m.Children) || anyDoubled(t.Children)
	if !copies && aligned(b.Children, m.Children) && aligned(b.Children, t.Children) {
		return pm, pt, nil
	}
	doubtful = map[int]bool{}
	g.sums.pairMoved(b, m, &pm)
	g.sums.pairMoved(b, t, &pt)
	if copies {
		g.sums.pairCopied(b, m, &pm)
		g.sums.pairCopied(b, t, &pt)
	}
	g.pairRenamed(b, m, t, &pm, &pt)
	g.pairKin(b, m, t, &pm, &pt)
	for i, kid := range b.Children {
		jm, jt := pm.toB[i], pt.toB[i]
		if kid.Key != "" || jm < 0 || jt < 0 {
			continue
		}
		x, y := m.Children[jm], t.Children[jt]
		if g.same(kid, x) || g.same(kid, y) || g.same(x, y) {
			continue
		}
		if len(kid.Children) > 0 && len(x.Children) > 0 && len(y.Children) > 0 && only(b, kid) && only(m, x) && only(t, y) {
			continue // there is nothing else that it could be
		}
		if single(kid) && single(x) && single(y) {
			continue // its one value is then in conflict
		}
		doubtful[i] = !g.sameThing(kid, x) || !g.sameThing(kid, y)
	}
	return pm, pt, doubtful
}

// single reports whether an element has one property and nothing else.
func single(e *Element) bool { return len(e.Props) == 1 && len(e.Children) == 0 }

// part takes a pair apart.
func (p *pairing) part(i int) { p.toA[p.toB[i]], p.toB[i] = -1, -1 }

// telling are properties that say what a thing is, beside those that are keys by habit.
var telling = []string{"id", "name", "key", "uri", "code", "type", "kind", "title", "label"}

// sameThing reports whether a keyless child is what the other one was before an edit: most
// of it is as it was, and nothing that says what it is has changed.
func (g *merger) sameThing(was, is *Element) bool {
	for _, name := range telling {
		if v := was.Prop(name); !v.IsAbsent() && !v.Equal(is.Prop(name)) {
			return false
		}
	}
	if len(was.Props)+len(was.Children) >= weighty {
		return g.sums.shared(was, is) >= alike || sharedKeys(was, is) >= alike
	}
	return g.sums.similar(was, is) >= alike || sharedKeys(was, is) >= alike
}

// only reports whether a keyless child is the only one of its type.
func only(in, kid *Element) bool {
	return !slices.ContainsFunc(in.Children, func(c *Element) bool { return c != kid && c.Type == kid.Type })
}

// sharedKeys gives the share of children that two elements have under the same keys.
func sharedKeys(a, b *Element) float64 {
	type id struct{ typ, key string }
	in := map[id]bool{}
	for _, k := range a.Children {
		if k.Key != "" {
			in[id{k.Type, k.Key}] = true
		}
	}
	n := 0
	for _, k := range b.Children {
		if in[id{k.Type, k.Key}] {
			n++
		}
	}
	return float64(n) / float64(max(len(a.Children), len(b.Children), 1))
}

// pairMoved pairs keyless children wherever they stand, which one side moved: those that are
// equal, and the only ones like that, then those that are most alike.
func (m digests) pairMoved(a, b *Element, p *pairing) {
	if !a.Ordered || !b.Ordered {
		return
	}
	ia, ib := open(keyless(a.Children), p.toB), open(keyless(b.Children), p.toA)
	if len(ia) == 0 || len(ib) == 0 {
		return
	}
	for _, q := range UniquePairs(m.sums(a.Children, ia), m.sums(b.Children, ib)) {
		if substantial(a.Children[ia[q[0]]]) {
			p.pair(ia[q[0]], ib[q[1]])
		}
	}
	// What is left may have been moved and edited.
	greedily(a.Children, b.Children, open(keyless(a.Children), p.toB), open(keyless(b.Children), p.toA), alike, m.shared, p)
}

// shared gives the share of properties and children that two elements of one type have
// exactly alike; of texts alone it is their likeness, where that is close.
func (m digests) shared(a, b *Element) float64 {
	if a.Type != b.Type {
		return 0
	}
	if single(a) && single(b) {
		if s := m.similar(a, b); s >= renamed {
			return s
		}
		return 0
	}
	total, same := max(len(a.Props), len(b.Props))+max(len(a.Children), len(b.Children)), m.sharedKids(a, b)
	for _, p := range a.Props {
		if p.Value.Equal(b.Prop(p.Name)) {
			same++
		}
	}
	return float64(same) / float64(max(total, 1))
}

// substantial reports whether there is enough in an element to know it again elsewhere.
func substantial(e *Element) bool {
	for _, p := range e.Props {
		if len(p.Value.String()) > 1 {
			return true
		}
	}
	return len(e.Children) > 0
}

// pairCopied pairs siblings that share a key, which Distinguish has numbered: a number is no
// identity, since a copy that is pasted above the others takes theirs. Equal ones pair first,
// what is left by likeness.
func (m digests) pairCopied(a, b *Element, p *pairing) {
	inA, inB := groups(a.Children), groups(b.Children)
	for id, ib := range inB {
		ia := inA[id]
		if len(ia) == 0 || len(ia) == 1 && len(ib) == 1 {
			continue
		}
		for _, i := range ia {
			if p.toB[i] >= 0 {
				p.part(i)
			}
		}
		for _, j := range ib {
			if p.toA[j] >= 0 {
				p.part(p.toA[j])
			}
		}
		body := func(kids []*Element, at []int) []Digest {
			out := make([]Digest, len(at))
			for i, k := range at {
				out[i] = m.of(kids[k]).body
			}
			return out
		}
		for _, q := range firstPairs(body(a.Children, ia), body(b.Children, ib)) {
			p.pair(ia[q[0]], ib[q[1]])
		}
		ia, ib = open(ia, p.toB), open(ib, p.toA)
		if len(ia) == 1 && len(ib) == 1 {
			p.pair(ia[0], ib[0])
			continue
		}
		greedily(a.Children, b.Children, ia, ib, alike, func(x, y *Element) float64 {
			return (m.similar(x, y) + textLikeness(saying(x), saying(y))) / 2
		}, p)
	}
}

// saying gives the texts in an element and below, up to what textLikeness looks at.
func saying(e *Element) string {
	var b strings.Builder
	e.texts(&b)
	return b.String()
}

func (e *Element) texts(b *strings.Builder) {
	for _, p := range e.Props {
		if p.Value.sort == Text && b.Len() < 4096 {
			b.WriteString(p.Value.text + " ")
		}
	}
	for _, k := range e.Children {
		if b.Len() < 4096 {
			k.texts(b)
		}
	}
}

// shared is what siblings have in common that Distinguish has told apart.
type shared struct{ typ, key string }

// groups gives the places of siblings that share a key, with those that have a key alone
// when another list might have copies of them.
func groups(kids []*Element) map[shared][]int {
	out := map[shared][]int{}
	for i, k := range kids {
		if k.Key != "" {
			id := shared{k.Type, rootKey(k.Key)}
			out[id] = append(out[id], i)
		}
	}
	return out
}

// anyDoubled reports whether a list has keys that Distinguish has made.
func anyDoubled(kids []*Element) bool {
	return slices.ContainsFunc(kids, func(k *Element) bool { return doubled(k.Key) })
}

// renumber gives children that share a key the numbers that they have in their order. It
// works in place on a list of its own.
func renumber(kids []*Element, versions ...*Element) []*Element {
	if !anyDoubled(kids) {
		return kids
	}
	known := map[shared]bool{} // keys that are shared in some version
	for _, v := range versions {
		plain := map[shared]bool{}
		for _, k := range v.Children {
			plain[shared{k.Type, k.Key}] = true
		}
		for _, k := range v.Children {
			if id := (shared{k.Type, rootKey(k.Key)}); doubled(k.Key) && plain[id] {
				known[id] = true
			}
		}
	}
	out := slices.Clone(kids)
	for i, k := range out {
		if id := (shared{k.Type, rootKey(k.Key)}); doubled(k.Key) && known[id] {
			c := *k
			c.Key = id.key
			out[i] = &c
		} else if known[shared{k.Type, k.Key}] {
			c := *k
			out[i] = &c
		}
	}
	Distinguish(out)
	return out
}

// pairRenamed pairs keyed children that one side or both gave other keys: those whose
// content is that of a base child which is gone there, and of no other.
func (g *merger) pairRenamed(b, m, t *Element, pm, pt *pairing) {
	var lost []int // gone on one side at least
	for i, kid := range b.Children {
		if kid.Key != "" && (pm.toB[i] < 0 || pt.toB[i] < 0) {
			lost = append(lost, i)
		}
	}
	if len(lost) == 0 {
		return
	}
	find := func(side *Element, p *pairing) map[int]int {
		var ia, ib []int
		for _, i := range lost {
			if p.toB[i] < 0 {
				ia = append(ia, i)
			}
		}
		for j, kid := range side.Children {
			if kid.Key != "" && p.toA[j] < 0 {
				ib = append(ib, j)
			}
		}
		out := map[int]int{}
		for _, q := range UniquePairs(g.bodies(b.Children, ia), g.bodies(side.Children, ib)) {
			out[ia[q[0]]] = ib[q[1]]
		}
		return out
	}
	newM, newT := find(m, pm), find(t, pt)
	for _, i := range lost {
		jm, inM := newM[i]
		jt, inT := newT[i]
		bare := bodyOf(b.Children[i]).Count() == 1 && len(bodyOf(b.Children[i]).Props) == 0
		if inM && (!bare || pt.toB[i] < 0) {
			pm.pair(i, jm)
		}
		if inT && (!bare || pm.toB[i] < 0 || inM) {
			pt.pair(i, jt)
		}
	}
}

// bodies gives digests of children without what their keys were taken from.
func (g *merger) bodies(kids []*Element, at []int) []Digest {
	out := make([]Digest, len(at))
	for i, k := range at {
		out[i] = digests{}.of(bodyOf(kids[k])).body
	}
	return out
}

// bodyOf gives an element without the properties that say its key.
func bodyOf(e *Element) *Element {
	c := *e
	c.Props = slices.DeleteFunc(slices.Clone(e.Props), func(p Prop) bool {
		return p.Value.sort != Bytes && p.Value.sort != List && p.Value.text == e.Key
	})
	return &c
}
