package state

import (
	"strings"
	"testing"

	"oakenchest/core/element"
)

// TestWhatIsSettledTakesNothingAlong settles one conflict of a file: the remarks of the other
// side stay, whichever side the choice is.
func TestWhatIsSettledTakesNothingAlong(t *testing.T) {
	base := "# one says a\none=1\n# two says b\ntwo=2\n# three says c\nthree=3\n# four says d\nfour=4\n"
	mine := strings.NewReplacer("three=3", "three=33", "# four says d\nfour=4", "new=5\n# four says d\nfour=4").Replace(base)
	theirs := strings.NewReplacer("says a", "says A", "says b", "says B", "three=3", "three=34").Replace(base)
	for _, keep := range []element.Keep{element.KeepMine, element.KeepTheirs, element.KeepBase} {
		got, conflicts := merged(t, memory("r.properties", base), memory("r.properties", mine), memory("r.properties", theirs),
			func(element.Conflict) (element.Choice, bool) { return element.Choice{Keep: keep}, true })
		text := string(got.Contents["r.properties"])
		if len(conflicts) > 0 || !strings.Contains(text, "# one says A\n") || !strings.Contains(text, "# two says B\n") ||
			!strings.Contains(text, "new=5\n") {
			t.Errorf("%s: %v\n%s", keep, conflicts, text)
		}
	}
	// A remark of what one side took away goes with it, by a choice.
	mine = strings.Replace(base, "# two says b\ntwo=2\n", "", 1)
	theirs = strings.NewReplacer("two=2", "two=22", "says b", "says B", "says c", "says C").Replace(base)
	for keep, want := range map[element.Keep]bool{element.KeepMine: false, element.KeepTheirs: true} {
		got, conflicts := merged(t, memory("r.properties", base), memory("r.properties", mine), memory("r.properties", theirs),
			func(element.Conflict) (element.Choice, bool) { return element.Choice{Keep: keep}, true })
		text := string(got.Contents["r.properties"])
		if len(conflicts) > 0 || strings.Contains(text, "# two says B\ntwo=22\n") != want || !strings.Contains(text, "# three says C\n") {
			t.Errorf("%s: %v\n%s", keep, conflicts, text)
		}
	}
}
