package ledger

import (
	"time"
)

// Deployment records that a commit was carried into an environment.
type Deployment struct {
	Number      int64
	Environment string
	Commit      ID
	Author      string
	Workspace   string
	Time        time.Time
	// Source is what was asked for: a state as it was written, or env:NAME for a promotion.
	Source string
	// Steps counts the statements that were run.
	Steps int
}
