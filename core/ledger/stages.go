package ledger

import (
	"time"
)

// Account tells more of a deployment than that it was made.
type Account struct {
	Deployment int64
	// Action is the word for what it was: deploy, promote, backfill, branch, settle.
	Action string
	// Origin is the environment that it came from; empty for none. Lane is that of the
	// work; Source is the commit that was promoted, which a merge may have made another of.
	Origin, Lane string
	Source       ID
	Began        time.Time
	Took         time.Duration
	// Gates tells what each gate said, as JSON.
	Gates string
	// Items lists the work items that came with it, sorted.
	Items []string
	// Reason is why a gate was overridden; empty when none was.
	Reason string
	// Tree is the digest, in hexadecimal, of a tree with the statements and the gates'
	// output; empty for none.
	Tree string
	// Plan is the sum of the written plan that was followed, in hexadecimal; empty for none.
	Plan string
	// After tells what the commands said that were run after it, as JSON; empty for none.
	After string
}

// Undone tells who took a deployment back, and when.
type Undone struct {
	Deployment        int64
	Author, Workspace string
	Time              time.Time
}

// Assent says that a person wants a commit in an environment, or, where people settled what
// was in conflict, just the tree that came of it.
type Assent struct {
	ID          int64
	Environment string
	Commit      ID
	Person      string
	Time        time.Time
	Text        string
	// Withdrawn says that the person took an earlier one back.
	Withdrawn bool
	// Tree is what was settled, in hexadecimal; empty where nothing was in conflict.
	Tree string
	// Plan is the sum of a written plan that was approved, and nothing else with it, in hexadecimal; Gate is the gate
	// that this is a signal for, and for none else. Both are empty for an approval of the work.
	Plan, Gate string
}

// Booking reserves an environment for a lane.
type Booking struct {
	ID                int64
	Environment, Lane string
	Person, Workspace string
	Asked, Begins     time.Time
	// Ends is when it ends; zero when it lasts for Lasts from when it begins.
	Ends  time.Time
	Lasts time.Duration
	Note  string
	// Ended is when somebody ended it before its time; zero when nobody did.
	Ended time.Time
}

// Distinct says that two elements are different things, however alike they look.
type Distinct struct {
	// One and Other are addresses, One the lesser.
	One, Other string
	Person     string
	Time       time.Time
	Reason     string
}

// Look is what somebody saw who compared an environment with what was deployed there.
type Look struct {
	Environment string
	Time        time.Time
	// Commit is what was deployed there then.
	Commit      ID
	Differences int
	// Failure says why it could not be looked at; empty when it could.
	Failure string
	Person  string
}

// Joint is where a branch takes in what another had: by a merge, or where it begins.
type Joint struct {
	Branch string
	Depth  int
	// OtherBranch and OtherDepth are those of the commit that came in.
	OtherBranch string
	OtherDepth  int
}
