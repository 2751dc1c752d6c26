package chest

import (
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/ledger"
)

func lockOn(address string) ledger.Lock {
	pattern := strings.ContainsAny(address, "*?[{")
	return ledger.Lock{Address: address, Pattern: pattern, Folder: !pattern && !strings.Contains(address, ".")}
}

func TestLocksMeetWhereTheyReachOneThing(t *testing.T) {
	for _, c := range []struct {
		a, b string
		meet bool
	}{
		{"exhibit", "exhibit/reef.glb", true},
		{"exhibit", "exhibition/reef.glb", false},
		{"exhibit/reef.glb", "exhibit/reef.glb::node:Lamp", true},
		{"exhibit/reef.glb::node:Lamp", "exhibit/reef.glb::node:Rock", false},
		{"exhibit/reef.glb::node:Lamp", "exhibit/reef.glb::node:Lamp.scale", true},
		{"exhibit/reef.glb::node:Lamp", "exhibit/reef.glb::node:Lamp2", false},
		{"exhibit/**/*.png", "exhibit/a/b.png", true},
		{"exhibit/**/*.png", "exhibit", true},
		{"exhibit/**/*.png", "sounds", false},
		{"**/*.png", "exhibit/reef.glb", false},
		{"exhibit/**/*.png", "exhibit/*.wav", false},
		{"exhibit/**/*.png", "exhibit/reef*", true},
		{"exhibit/reef.*", "exhibit/reef.glb::node:Lamp", true},
		{"exhibit/*.png", "exhibit/a/b.png", false},
		{"*.{png,wav}", "reef.png", true},
		{"a/{b/c,d}.png", "a/x/y.png", false},
		{"a/{b/c,d}.png", "a/**/y.png", true},
		{".", "anything/at.all", true},
	} {
		a, b := lockOn(c.a), lockOn(c.b)
		if Meet(a, b) != c.meet || Meet(b, a) != c.meet {
			t.Errorf("%s and %s meet: %v, %v, want %v", c.a, c.b, Meet(a, b), Meet(b, a), c.meet)
		}
	}
}

// TestPatternsThatFitOnePathMeet draws patterns and paths from few letters: two patterns
// that some path fits must meet; nothing may say otherwise.
func TestPatternsThatFitOnePathMeet(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	draw := func(signs []string) string {
		var b strings.Builder
		for range 1 + r.IntN(6) {
			b.WriteString(signs[r.IntN(len(signs))])
		}
		return b.String()
	}
	checked := 0
	for range 60000 {
		a, b := draw([]string{"a", "b", "*", "?", "/", "/**/", "[ab]", "{a,bb}"}), draw([]string{"a", "b", "*", "?", "/", "**/"})
		p := draw([]string{"a", "b", "/"})
		if strings.HasSuffix(a, "/") || strings.HasSuffix(b, "/") || strings.HasPrefix(a, "/") || strings.HasPrefix(b, "/") ||
			strings.Contains(p, "//") || strings.Contains(a, "//") || strings.Contains(b, "//") || !doublestar.ValidatePattern(a) ||
			!doublestar.ValidatePattern(b) {
			continue
		}
		x, _ := doublestar.Match(a, p)
		y, _ := doublestar.Match(b, p)
		if !x || !y {
			continue
		}
		checked++
		if !patternsMeet(a, b) {
			t.Fatalf("%s fits %s and %s, which are said not to meet", p, a, b)
		}
		if !Meet(ledger.Lock{Address: a, Pattern: true}, ledger.Lock{Address: p}) {
			t.Fatalf("%s is said not to meet %s", a, p)
		}
	}
	if checked < 200 {
		t.Errorf("only %d paths fitted two patterns", checked)
	}
}

// TestLockSetsAnswerLikeEachLock holds the set against asking every lock.
func TestLockSetsAnswerLikeEachLock(t *testing.T) {
	var locks []ledger.Lock
	for _, a := range []string{"exhibit", "exhibit/reef.glb::node:Lamp", "exhibit/**/*.png", "notes/a.txt", "notes/a.txt2",
		"database::table:tank", "x.y/z", "art/*"} {
		locks = append(locks, lockOn(a))
	}
	for _, all := range [][]ledger.Lock{locks, append([]ledger.Lock{{Address: ".", Folder: true}}, locks...), nil} {
		set := NewLockSet(all)
		for _, p := range []string{"exhibit", "exhibit/reef.glb", "exhibit/reef.glb::node:Lamp", "exhibit/reef.glb::node:Lamp.scale",
			"exhibit/reef.glb::node:Lamp2", "exhibit/a/b.png", "exhibition", "notes/a.txt", "notes/a", "database",
			"database::table:tank/column:id.type", "x.y/z/q", "x", "art/b.bin::node:X", "art"} {
			want := map[string]bool{}
			for _, l := range all {
				if Reaches(l, p) {
					want[l.Address] = true
				}
			}
			got := map[string]bool{}
			for _, l := range set.Over(p) {
				got[l.Address] = true
			}
			if !maps.Equal(got, want) {
				t.Errorf("over %s: %v, want %v", p, got, want)
			}
		}
	}
}
