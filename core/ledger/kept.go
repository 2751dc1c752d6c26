package ledger

import (
	"time"
)

// Kept is what an environment held before a deployment: a tree of files in the chest.
type Kept struct {
	ID          int64
	Environment string
	Time        time.Time
	// Tree is the digest of the tree, in hexadecimal digits.
	Tree string
	// Deployment is the number of the deployment; 0 for one that was begun and not
	// finished, Unnumbered for one that is no deployment of a commit.
	Deployment int64
}

// Unnumbered marks what was kept before an environment was changed otherwise than by the
// deployment of a commit.
const Unnumbered = -1

// Aside marks what was kept before something was taken back: it belongs to no deployment,
// and is there for when the work comes again.
const Aside = -2
