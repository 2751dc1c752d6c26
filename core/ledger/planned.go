package ledger

import "time"

// Planned is a promotion that somebody wants at a time, of just the work that there was when it was asked for.
type Planned struct {
	ID             int64
	Origin, Target string
	// Commit is what Origin held, and must hold when it is carried out.
	Commit ID
	// Lane, Item, Paths, Override and Reason are what was asked for; Options are words for what was consented to.
	Lane, Item             string
	Items, Paths, Override []string
	Reason                 string
	Options                []string
	// Person and Workspace are whose it is.
	Person, Workspace string
	Asked, Due        time.Time
	// Ended is when it was carried out, refused or called off; zero while it is to come.
	Ended time.Time
	// Outcome is done, refused, failed or called off; By who did that, Said what was in the way.
	Outcome, By, Said string
}

// The outcomes of what was planned.
const (
	PlannedDone    = "done"
	PlannedRefused = "refused"
	PlannedFailed  = "failed"
	PlannedOff     = "called off"
)

// Bundle is a release before it ships: a list of work items under a name.
type Bundle struct {
	ID   int64
	Name string
	// Items are the keys of work items, sorted.
	Items []string
	Text  string
	// Person and Time are who wrote it down last, and when.
	Person string
	Time   time.Time
	// Ended is when it became a release, or was dropped; zero while it is planned.
	Ended   time.Time
	Outcome string
}

// The outcomes of a planned release.
const (
	BundleReleased = "released"
	BundleDropped  = "dropped"
)
