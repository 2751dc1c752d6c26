package ledger

import (
	"strings"
	"time"
)

// LinePrefix begins the names of lines: branches that nobody lists, which hold what
// environments were found to hold beside all listed ones. No listed branch can have such a
// name.
const LinePrefix = "record:"

// IsLine reports whether a branch is a line.
func IsLine(branch string) bool { return strings.HasPrefix(branch, LinePrefix) }

// LineOf gives the environment that a line belongs to; ok is false for other branches.
func LineOf(branch string) (environment string, ok bool) {
	rest, ok := strings.CutPrefix(branch, LinePrefix)
	if i := strings.LastIndexByte(rest, '/'); ok && i >= 0 {
		return rest[:i], true
	}
	return "", false
}

// Taking says that a commit takes a work back.
type Taking struct{ Commit, Work ID }

// Absence says that a work was taken back from an environment. It holds until the
// environment has the work again.
type Absence struct {
	Environment string
	Work        ID
	Person      string
	Time        time.Time
	Reason      string
	// Kept is the number of what the environment held before, with what was lost; 0 for none.
	Kept int64
}

// Attempt is something that somebody tried to do to an environment, and that did not come
// about.
type Attempt struct {
	Environment, Action string
	Person, Workspace   string
	Time                time.Time
	// Outcome is refused or failed; Said is the reason.
	Outcome, Said string
}
