package ledger

import (
	"time"
)

// Pending is a promotion whose conflicts people settle before it is carried out.
type Pending struct {
	// Origin and Target are the environments that it leads from and to.
	Origin, Target string
	// Chosen says in the words of the program what of the work was chosen.
	Chosen string
	Person string
	Time   time.Time
}

// Chosen is how somebody settled one conflict of a promotion.
type Chosen struct {
	Origin, Target string
	Address        string
	// Sides is a digest of what stood against each other: of other sides it says nothing.
	Sides             string
	Keep, Sort, Value string
	Person            string
	Time              time.Time
}
