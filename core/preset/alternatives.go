package preset

import "strings"

// alternatives writes a pattern with one {a,b,c} as several without.
func alternatives(pattern string) []string {
	before, rest, ok := strings.Cut(pattern, "{")
	inside, after, closed := strings.Cut(rest, "}")
	if !ok || !closed {
		return []string{pattern}
	}
	var out []string
	for choice := range strings.SplitSeq(inside, ",") {
		out = append(out, before+choice+after)
	}
	return out
}
