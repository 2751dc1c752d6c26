package cli

import (
	"bytes"
	"strings"
	"testing"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
)

// TestQuietIsQuiet writes with every means that a command has: nothing comes through but an error.
func TestQuietIsQuiet(t *testing.T) {
	var out, errs bytes.Buffer
	app := &App{Screen: screen.Screen{Out: &out, Err: &errs, Quiet: true}}
	app.Say("said")
	app.Note("noted")
	app.Table(&out, "", [][]screen.Cell{{screen.Plain.Cell("a")}})
	if out.Len()+errs.Len() > 0 {
		t.Errorf("quiet says %q and %q", out.String(), errs.String())
	}
	app.report(fault.New(fault.Refused, "Ask.", "It is refused."))
	if out.Len() > 0 || !strings.Contains(errs.String(), "It is refused.") {
		t.Errorf("an error says %q and %q", out.String(), errs.String())
	}
}
