package cli

import (
	"bytes"
	"strings"
	"testing"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
)

// TestErrorsAreInert lets data in an error and its hint try to move the cursor.
func TestErrorsAreInert(t *testing.T) {
	const evil, shown = "a\x1b[2Jb\u009bd", `a\x1b[2Jb\u009bd`
	var out bytes.Buffer
	a := &App{Screen: screen.Screen{Out: &out, Err: &out}}
	a.report(fault.New(fault.Refused, evil, "%s.", evil))
	if strings.Count(out.String(), shown) != 2 || strings.Contains(out.String(), "\x1b") {
		t.Errorf("shown: %q", out.String())
	}
}
