package lookalike

import (
	"os"
	"strings"
	"testing"
)

// labelled is a pair with what people say of it.
type labelled struct {
	same       bool
	one, other Thing
	line       string
}

func readPairs(t *testing.T, name string) []labelled {
	t.Helper()
	data, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	var out []labelled
	for line := range strings.SplitSeq(string(data), "\n") {
		f := strings.Fields(line)
		if len(f) == 0 || f[0] == "#" || len(f) != 4 || f[0] != "same" && f[0] != "other" {
			continue
		}
		thing := func(lane, text string) Thing {
			name, holds, _ := strings.Cut(text, ":")
			x := Thing{Lane: lane, Address: lane + text, Type: f[1], Key: name, Holds: holds}
			if in, key, ok := strings.Cut(name, "."); ok {
				x.Within, x.Key = []string{in}, key
			}
			return x
		}
		out = append(out, labelled{f[0] == "same", thing("A", f[2]), thing("B", f[3]), line})
	}
	return out
}

// judge counts how often the score is right.
func judge(t *testing.T, name string, show bool) (precision, recall float64, n int) {
	t.Helper()
	found, right, same := 0, 0, 0
	for _, p := range readPairs(t, name) {
		n++
		got := Compare(p.one, p.other)
		hit := got.Score >= Likely
		if hit {
			found++
		}
		if p.same {
			same++
			if hit {
				right++
			}
		}
		if show && hit != p.same {
			t.Logf("%.2f %s %q", got.Score, p.line, got.Why)
		}
	}
	return float64(right) / float64(found), float64(right) / float64(same), n
}

// TestQualityOnTheLabelledSet holds what docs/pipeline.md says of the quality. The figures
// are logged: go test -v -run Quality ./core/lookalike.
func TestQualityOnTheLabelledSet(t *testing.T) {
	for _, set := range []struct {
		name              string
		precision, recall float64
	}{{"tune.txt", .9, .9}, {"judge.txt", .85, .8}} {
		p, r, n := judge(t, set.name, testing.Verbose())
		t.Logf("%s: %d pairs, precision %.2f, recall %.2f", set.name, n, p, r)
		if p < set.precision || r < set.recall {
			t.Errorf("%s: precision %.2f, recall %.2f; %.2f and %.2f are promised", set.name, p, r, set.precision, set.recall)
		}
	}
}
