package element

import "slices"

// disjoint gives an order in which what either side moved stands where that side put it,
// when no child was moved by both. inB, inM and inT are the same tokens in three orders.
func disjoint(inB, inM, inT []token) ([]token, bool) {
	movedM, movedT := movedTokens(inB, inM), movedTokens(inB, inT)
	for tok := range movedM {
		if movedT[tok] {
			return nil, false
		}
	}
	out := slices.Clone(inT)
	for k, tok := range inM {
		if !movedM[tok] {
			continue
		}
		// It goes behind the nearest child before it that theirs did not move.
		i := k - 1
		for i >= 0 && movedT[inM[i]] {
			i--
		}
		out = slices.DeleteFunc(out, func(x token) bool { return x == tok })
		at := 0
		if i >= 0 {
			at = slices.Index(out, inM[i]) + 1
		}
		out = slices.Insert(out, at, tok)
	}
	return out, true
}

// movedTokens gives the fewest tokens that have to move to make one order of another.
func movedTokens(from, to []token) map[token]bool {
	place := make(map[token]int, len(from))
	for i, tok := range from {
		place[tok] = i
	}
	pairs := make([][2]int, len(to))
	out := make(map[token]bool)
	for i, tok := range to {
		pairs[i] = [2]int{i, place[tok]}
		out[tok] = true
	}
	for _, p := range Increasing(pairs) {
		delete(out, to[p[0]])
	}
	return out
}
