package fault

import (
	"slices"
	"testing"
)

func TestClosest(t *testing.T) {
	names := []string{"changes", "commit", "compare", "conflicts", "go", "history", "lock", "locks", "main", "kelp", "test", "live"}
	for word, want := range map[string][]string{
		"chagnes": {"changes"}, "comit": {"commit"}, "hsitory": {"history"}, "lokc": {"lock"}, "Main": {"main"}, "man": {"main"},
		"klp": {"kelp"}, "tst": {"test"},
		"lcoks": {"locks", "lock"}, "comp": {"compare"}, "xyz": nil, "": nil, "o": {"go"},
	} {
		if got := Closest(word, names); !slices.Equal(got, want) && !(word == "lcoks" && len(got) > 0 && got[0] == "locks") {
			t.Errorf("%q: %v, not %v", word, got, want)
		}
	}
	if got := Closest("a", []string{"ab", "ac", "ad", "ae", "af"}); len(got) > mostNear {
		t.Errorf("%d names are proposed", len(got))
	}
}
