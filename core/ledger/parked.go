package ledger

import (
	"time"
)

// Parked is work that somebody has set aside under a name.
type Parked struct {
	Person, Name string
	Workspace    string
	Branch       string
	// Base is the commit that the work was done on; zero before the first.
	Base ID
	// Tree is the digest of the base with the work in it, in hexadecimal digits.
	Tree string
	Time time.Time
	Note string
	// Shared says that others see it too.
	Shared bool
	// Paths lists what was set aside, a path on each line.
	Paths string
}
