package ledger

import (
	"time"
)

// Branch is a line of work with a tip that moves.
type Branch struct {
	Name string
	Tip  ID
	// Origin is the state that it was made from, as it was written.
	Origin string
	Author string
	Time   time.Time
}

// Release is a commit's name for good.
type Release struct {
	Name    string
	Commit  ID
	Comment string
	Author  string
	Time    time.Time
}
