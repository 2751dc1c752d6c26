package element

import (
	"slices"
	"strings"
)

// A token stands for one child while child lists are merged: base children come
// first, then what mine added, then what theirs added.
type token int

// childMerge is the merge of the children of one element.
type childMerge struct {
	*merger
	at      Address
	b, m, t *Element
	pm, pt  pairing
	// doubtful are the base's children of which both sides have something that may be
	// another thing.
	doubtful map[int]bool
	// result holds the merged child of each token that survives.
	result map[token]*Element
	// seqM and seqT are the tokens in each side's order; what is paired has one token.
	seqM, seqT []token
	ordered    bool
}

func (g *merger) children(at Address, b, m, t *Element) []*Element {
	if len(m.Children) == 0 && len(t.Children) == 0 {
		return nil
	}
	c := &childMerge{merger: g, at: at, b: b, m: m, t: t, result: map[token]*Element{}, ordered: m.Ordered && t.Ordered}
	c.pm, c.pt, c.doubtful = g.pairs3(b, m, t)
	g.note(c)
	c.fromBase()
	c.added()
	if c.ordered {
		c.insertions()
	}
	return renumber(c.distinct(c.order()), b, m, t)
}

func (c *childMerge) fromBase() {
	steps := stepsOf(c.b.Children)
	for i, kid := range c.b.Children {
		var m, t, r *Element
		if j := c.pm.toB[i]; j >= 0 {
			m = c.m.Children[j]
		}
		if j := c.pt.toB[i]; j >= 0 {
			t = c.t.Children[j]
		}
		switch at := c.at.Below(steps[i]); {
		case m != nil && t != nil && c.doubtful[i]:
			r = c.either(at, kid, m, t)
		case m != nil && t != nil:
			r = c.node(at, kid, m, t)
		case m != nil || t != nil:
			r = c.survivor(at, kid, m, t)
		}
		if r != nil {
			c.result[token(i)] = r
		}
	}
}

// either takes one side's child whole.
func (g *merger) either(at Address, b, m, t *Element) *Element {
	switch g.ask(Conflict{Address: at, Base: Side{Element: b}, Mine: Side{Element: m}, Theirs: Side{Element: t},
		Allows: elementChoices}).Keep {
	case KeepTheirs:
		return t
	case KeepBase:
		return b
	}
	return m
}

// added gives tokens to what each side added; equal identities share one.
func (c *childMerge) added() {
	nb, nm := len(c.b.Children), len(c.m.Children)
	type id struct{ typ, key string }
	mine, loose := map[id]int{}, map[Digest][]int{}
	for j, kid := range c.m.Children {
		tok := token(nb + j)
		if i := c.pm.toA[j]; i >= 0 {
			tok = token(i)
		} else {
			c.result[tok] = kid
			if kid.Key != "" {
				mine[id{kid.Type, kid.Key}] = j
			} else if !c.ordered {
				d := c.sums.of(kid).whole
				loose[d] = append(loose[d], j)
			}
		}
		c.seqM = append(c.seqM, tok)
	}
	for j, kid := range c.t.Children {
		tok := token(nb + nm + j)
		if i := c.pt.toA[j]; i >= 0 {
			tok = token(i)
		} else if k, ok := mine[id{kid.Type, kid.Key}]; ok && kid.Key != "" {
			tok = token(nb + k)
			empty := &Element{Type: kid.Type, Key: kid.Key, Ordered: kid.Ordered}
			c.result[tok] = c.node(c.at.Below(Step{Type: kid.Type, Key: kid.Key}), empty, c.m.Children[k], kid)
		} else if d := c.sums.of(kid).whole; kid.Key == "" && len(loose[d]) > 0 {
			tok = token(nb + loose[d][0])
			loose[d] = loose[d][1:]
		} else {
			c.result[tok] = kid
		}
		c.seqT = append(c.seqT, tok)
	}
}

// insertions finds keyless children that both sides put in at one place of an
// ordered list: equal ones become one, others are a conflict.
func (c *childMerge) insertions() {
	common := c.commonBase()
	gapsM, gapsT := c.gaps(c.seqM, common), c.gaps(c.seqT, common)
	replace := map[token]token{}
	for _, gap := range append([]token{-1}, tokensOf(c.b)...) {
		mine, theirs := gapsM[gap], gapsT[gap]
		if len(mine) == 0 && len(theirs) == 0 {
			continue
		}
		if len(mine) == 0 || len(theirs) == 0 {
			if gone := c.bothTook(gap, common); len(gone) > 0 { // one side rewrote what the other took away
				c.settleInsertion(gap, mine, theirs)
			}
			continue
		}
		head := 0
		for head < len(mine) && head < len(theirs) && c.equal(mine[head], theirs[head]) {
			replace[theirs[head]] = mine[head]
			head++
		}
		mine, theirs = mine[head:], theirs[head:]
		for len(mine) > 0 && len(theirs) > 0 && c.equal(mine[len(mine)-1], theirs[len(theirs)-1]) {
			replace[theirs[len(theirs)-1]] = mine[len(mine)-1]
			mine, theirs = mine[:len(mine)-1], theirs[:len(theirs)-1]
		}
		if len(mine) > 0 && len(theirs) > 0 {
			c.settleInsertion(gap, mine, theirs)
		}
	}
	for i, tok := range c.seqT {
		if r, ok := replace[tok]; ok {
			delete(c.result, tok)
			c.seqT[i] = r
		}
	}
}

// bothTook lists the keyless base children in a gap that both sides took away.
func (c *childMerge) bothTook(gap token, common map[token]bool) []token {
	var out []token
	for tok := gap + 1; int(tok) < len(c.b.Children) && !common[tok]; tok++ {
		if c.b.Children[tok].Key == "" && c.pm.toB[tok] < 0 && c.pt.toB[tok] < 0 {
			out = append(out, tok)
		}
	}
	return out
}

func tokensOf(b *Element) []token {
	out := make([]token, len(b.Children))
	for i := range out {
		out[i] = token(i)
	}
	return out
}

func (c *childMerge) equal(a, b token) bool { return c.same(c.result[a], c.result[b]) }

// gaps gathers a side's keyless additions by the last common base child before them.
func (c *childMerge) gaps(seq []token, common map[token]bool) map[token][]token {
	out, last := map[token][]token{}, token(-1)
	for _, tok := range seq {
		if common[tok] {
			last = tok
		} else if r := c.result[tok]; int(tok) >= len(c.b.Children) && r != nil && r.Key == "" {
			out[last] = append(out[last], tok)
		}
	}
	return out
}

func (c *childMerge) settleInsertion(gap token, mine, theirs []token) {
	first := append(mine[:len(mine):len(mine)], theirs...)[0]
	typ, ordinal := c.result[first].Type, 1
	for i := range int(gap) + 1 {
		if k := c.b.Children[i]; k.Key == "" && k.Type == typ {
			ordinal++
		}
	}
	choice := c.ask(Conflict{
		Address: c.at.Below(Step{Type: typ, Ordinal: ordinal}).Of(InsertedProperty),
		Mine:    Side{Value: c.block(mine)}, Theirs: Side{Value: c.block(theirs)}, Allows: blockChoices,
	})
	if choice.Keep == KeepTheirs || choice.Keep == KeepBase {
		for _, tok := range mine {
			delete(c.result, tok)
		}
	}
	if choice.Keep == KeepMine || choice.Keep == KeepBase {
		for _, tok := range theirs {
			delete(c.result, tok)
		}
	}
}

// block writes what was put in, one element a line.
func (c *childMerge) block(toks []token) Value {
	if len(toks) == 0 {
		return Value{}
	}
	lines := make([]string, len(toks))
	for i, tok := range toks {
		lines[i] = c.result[tok].Summary()
	}
	return TextValue(strings.Join(lines, "\n"))
}

func (c *childMerge) commonBase() map[token]bool {
	inM, common := map[token]bool{}, map[token]bool{}
	for _, tok := range c.seqM {
		inM[tok] = true
	}
	for _, tok := range c.seqT {
		if inM[tok] && int(tok) < len(c.b.Children) && c.result[tok] != nil {
			common[tok] = true
		}
	}
	return common
}

// order gives the surviving tokens in merged order: the order of the side that
// changed it, with the other side's own children after their neighbours.
func (c *childMerge) order() []token {
	common := c.commonBase()
	only := func(seq []token) []token {
		var out []token
		for _, tok := range seq {
			if common[tok] {
				out = append(out, tok)
			}
		}
		return out
	}
	inM, inT := only(c.seqM), only(c.seqT)
	inB := slices.Sorted(slices.Values(inM))
	if !c.ordered || slices.Equal(inT, inB) || slices.Equal(inM, inT) {
		return c.weave(c.seqM, c.seqT, false)
	}
	if slices.Equal(inM, inB) {
		return c.weave(c.seqT, c.seqM, true)
	}
	if both, ok := disjoint(inB, inM, inT); ok {
		return c.weave(c.arranged(both), c.seqM, true)
	}
	side := func(seq []token) Side {
		names := make([]string, len(seq))
		for i, tok := range seq {
			names[i] = stepsOf(c.b.Children)[tok].String()
		}
		return Side{Value: TextValue(strings.Join(names, ", "))}
	}
	choice := c.ask(Conflict{Address: c.at.Of(OrderProperty), Base: side(inB), Mine: side(inM), Theirs: side(inT), Allows: orderChoices})
	if choice.Keep == KeepTheirs {
		return c.weave(c.seqT, c.seqM, true)
	}
	return c.weave(c.seqM, c.seqT, false)
}

// arranged gives the tokens of theirs with those that both have in another order.
func (c *childMerge) arranged(common []token) []token {
	in := map[token]bool{}
	for _, tok := range common {
		in[tok] = true
	}
	own, last := map[token][]token{}, token(-1)
	for _, tok := range c.seqT {
		if in[tok] {
			last = tok
		} else {
			own[last] = append(own[last], tok)
		}
	}
	out := own[-1]
	for _, tok := range common {
		out = append(append(out, tok), own[tok]...)
	}
	return out
}

// weave puts what only other has into skeleton, each after its neighbour. At
// one place mine comes first: otherFirst says that other is mine.
func (c *childMerge) weave(skeleton, other []token, otherFirst bool) []token {
	in := map[token]bool{}
	for _, tok := range skeleton {
		in[tok] = c.result[tok] != nil
	}
	after, last := map[token][]token{}, token(-1)
	for _, tok := range other {
		switch {
		case c.result[tok] == nil:
		case in[tok]:
			last = tok
		default:
			after[last] = append(after[last], tok)
		}
	}
	shared := map[token]bool{}
	for _, tok := range other {
		shared[tok] = true
	}
	var out, pending []token
	pending = after[-1]
	for _, tok := range skeleton {
		if !in[tok] {
			continue
		}
		if otherFirst || shared[tok] {
			out = append(out, pending...)
			pending = nil
		}
		out = append(out, tok)
		if shared[tok] {
			pending = after[tok]
		}
	}
	return append(out, pending...)
}

// distinct gives the children, and makes a conflict of two that came to have
// one identity by different ways.
func (c *childMerge) distinct(order []token) []*Element {
	type id struct{ typ, key string }
	seen := map[id]int{}
	var out []*Element
	for _, tok := range order {
		e := c.result[tok]
		k := id{e.Type, e.Key}
		i, dup := seen[k]
		if e.Key == "" || !dup {
			seen[k] = len(out)
			out = append(out, e)
			continue
		}
		choice := c.ask(Conflict{Address: c.at.Below(Step{Type: e.Type, Key: e.Key}),
			Mine: Side{Element: out[i]}, Theirs: Side{Element: e}, Allows: []Keep{KeepMine, KeepTheirs, KeepBoth}})
		switch choice.Keep {
		case KeepTheirs:
			out[i] = e
		case KeepBoth:
			out = append(out, e.Clone())
			Distinguish(out)
		}
	}
	return out
}
