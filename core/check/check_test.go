package check

import (
	"strings"
	"testing"
	"time"
)

func TestACommandIsJudgedAndItsEndIsKept(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct {
		script, said, failed string
		within               time.Duration
	}{
		{"echo fine", "fine\n", "", time.Minute},
		{"echo one; echo two >&2; exit 3", "one\ntwo\n", "exit status 3", time.Minute},
		{"echo begun; sleep 20", "begun\n", "it took longer than 100ms", 100 * time.Millisecond},
		{"pwd", dir + "\n", "", time.Minute},
	} {
		said, err := Run(t.Context(), []string{"sh", "-c", c.script}, c.within, dir)
		if said != c.said || (err == nil) != (c.failed == "") || err != nil && err.Error() != c.failed {
			t.Errorf("%s: %q, %v", c.script, said, err)
		}
	}
	said, err := Run(t.Context(), []string{"sh", "-c", "yes line | head -n 10000; echo end"}, time.Minute, dir)
	if err != nil || len(said) != MostOutput || !strings.HasSuffix(said, "\nend\n") || LastLine(said) != "end" {
		t.Errorf("a long output: %d bytes, %v", len(said), err)
	}
	if _, err := Run(t.Context(), []string{"no-such-program-here"}, time.Minute, dir); err == nil {
		t.Error("a program that is not there passed")
	}
}
