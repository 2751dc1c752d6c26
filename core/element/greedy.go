package element

// mostEdits bounds the number of differences that greedy looks for; its memory
// is the square of it, in units of 2 bytes times two.
const mostEdits = 2500

// greedy finds a longest common subsequence by following the furthest reaching
// paths: E. Myers, "An O(ND) Difference Algorithm and Its Variations",
// Algorithmica 1 (1986). It gives up, with ok false, when there are more than
// mostEdits differences. Cost is near linear times their number.
func greedy(a, b []Digest) (pairs [][2]int, ok bool) {
	n, m := len(a), len(b)
	most := min(n+m, mostEdits)
	reach := make([]int32, 2*most+2) // by diagonal: how far along a
	var trace [][]int32
	for d := 0; d <= most; d++ {
		row := make([]int32, 2*d+1)
		for k := -d; k <= d; k += 2 {
			var x int32
			switch {
			case d == 0:
			case k == -d || k != d && reach[most+k-1] < reach[most+k+1]:
				x = reach[most+k+1]
			default:
				x = reach[most+k-1] + 1
			}
			for int(x) < n && int(x)-k < m && a[x] == b[int(x)-k] {
				x++
			}
			reach[most+k] = x
			row[k+d] = x
			if int(x) >= n && int(x)-k >= m {
				return backtrack(a, b, append(trace, row)), true
			}
		}
		trace = append(trace, row)
	}
	return nil, false
}

// backtrack reads the pairs off the furthest reaching paths, from the end.
func backtrack(a, b []Digest, trace [][]int32) [][2]int {
	x, y := len(a), len(b)
	var out [][2]int
	for d := len(trace) - 1; d >= 0; d-- {
		k := x - y
		px, py := 0, 0
		if d > 0 {
			before := trace[d-1]
			at := func(k int) int32 {
				if k < -(d-1) || k > d-1 {
					return -1
				}
				return before[k+d-1]
			}
			pk := k - 1
			if k == -d || k != d && at(k-1) < at(k+1) {
				pk = k + 1
			}
			px = int(at(pk))
			py = px - pk
		}
		for x > px && y > py && a[x-1] == b[y-1] {
			x, y = x-1, y-1
			out = append(out, [2]int{x, y})
		}
		x, y = px, py
	}
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return out
}
