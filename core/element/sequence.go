package element

import "sort"

// CommonRun finds a long common subsequence of two lists of digests, as
// increasing pairs of indexes. Common ends are paired first; what is unique on
// both sides anchors the rest (the "patience" idea of B. Cohen, 2005); small
// remainders are solved exactly by dynamic programming, large ones without
// anchors by greedy. Cost is near linear in the lengths but for remainders of at
// most exactCells cells.
func CommonRun(a, b []Digest) [][2]int {
	var out [][2]int
	align(a, b, 0, 0, &out)
	return out
}

const exactCells = 1 << 20

func align(a, b []Digest, ai, bi int, out *[][2]int) {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		*out = append(*out, [2]int{ai, bi})
		a, b, ai, bi = a[1:], b[1:], ai+1, bi+1
	}
	tail := 0
	for tail < len(a) && tail < len(b) && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	ma, mb := a[:len(a)-tail], b[:len(b)-tail]
	switch {
	case len(ma) == 0 || len(mb) == 0:
	case len(ma)*len(mb) <= exactCells:
		exactRun(ma, mb, ai, bi, out)
	default:
		anchored(ma, mb, ai, bi, out)
	}
	for k := range tail {
		*out = append(*out, [2]int{ai + len(ma) + k, bi + len(mb) + k})
	}
}

func anchored(a, b []Digest, ai, bi int, out *[][2]int) {
	anchors := UniquePairs(a, b)
	if len(anchors) == 0 {
		pairs, ok := greedy(a, b)
		if !ok {
			pairs = Increasing(firstPairs(a, b))
		}
		for _, p := range pairs {
			*out = append(*out, [2]int{ai + p[0], bi + p[1]})
		}
		return
	}
	pa, pb := 0, 0
	for _, p := range append(Increasing(anchors), [2]int{len(a), len(b)}) {
		align(a[pa:p[0]], b[pb:p[1]], ai+pa, bi+pb, out)
		if p[0] < len(a) {
			*out = append(*out, [2]int{ai + p[0], bi + p[1]})
		}
		pa, pb = p[0]+1, p[1]+1
	}
}

// UniquePairs pairs what stands exactly once on both sides, in order of a.
func UniquePairs(a, b []Digest) [][2]int {
	type place struct{ na, nb, ib int }
	seen := make(map[Digest]place, len(a))
	for _, d := range a {
		p := seen[d]
		p.na++
		seen[d] = p
	}
	for i, d := range b {
		p := seen[d]
		p.nb++
		p.ib = i
		seen[d] = p
	}
	var out [][2]int
	for i, d := range a {
		if p := seen[d]; p.na == 1 && p.nb == 1 {
			out = append(out, [2]int{i, p.ib})
		}
	}
	return out
}

// firstPairs pairs the nth occurrence of each digest on one side with its nth
// occurrence on the other.
func firstPairs(a, b []Digest) [][2]int {
	where := map[Digest][]int{}
	for i, d := range b {
		where[d] = append(where[d], i)
	}
	var out [][2]int
	for i, d := range a {
		if w := where[d]; len(w) > 0 {
			out = append(out, [2]int{i, w[0]})
			where[d] = w[1:]
		}
	}
	return out
}

// inOrder reports whether the second numbers of pairs increase.
func inOrder(pairs [][2]int) bool {
	for i := 1; i < len(pairs); i++ {
		if pairs[i][1] < pairs[i-1][1] {
			return false
		}
	}
	return true
}

// Increasing keeps a longest run of pairs whose second numbers increase (by
// patience sorting, n log n). The first numbers must increase already.
func Increasing(pairs [][2]int) [][2]int {
	var tops, back []int
	back = make([]int, len(pairs))
	for i, p := range pairs {
		k := sort.Search(len(tops), func(k int) bool { return pairs[tops[k]][1] >= p[1] })
		back[i] = -1
		if k > 0 {
			back[i] = tops[k-1]
		}
		if k == len(tops) {
			tops = append(tops, i)
		} else {
			tops[k] = i
		}
	}
	out := make([][2]int, len(tops))
	if len(tops) == 0 {
		return out
	}
	for i, k := tops[len(tops)-1], len(tops)-1; k >= 0; i, k = back[i], k-1 {
		out[k] = pairs[i]
	}
	return out
}

func exactRun(a, b []Digest, ai, bi int, out *[][2]int) {
	w := len(b) + 1
	best := make([]int32, (len(a)+1)*w)
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			switch {
			case a[i] == b[j]:
				best[i*w+j] = best[(i+1)*w+j+1] + 1
			default:
				best[i*w+j] = max(best[(i+1)*w+j], best[i*w+j+1])
			}
		}
	}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			*out = append(*out, [2]int{ai + i, bi + j})
			i, j = i+1, j+1
		case best[(i+1)*w+j] >= best[i*w+j+1]:
			i++
		default:
			j++
		}
	}
}
