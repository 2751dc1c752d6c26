package ledger

import "time"

// Lease lets one of all that use a chest do something alone, as long as it is renewed.
type Lease struct {
	// Name says what it is for.
	Name string
	// Owner is a random text that nobody else has; empty when nobody holds it.
	Owner string
	// Fence counts how often it was taken: what was decided under another number is void.
	Fence int64
	// Beat counts renewals: a lease whose beat stands still belongs to nobody any more.
	Beat int64
	// Person and Workspace say for people who holds it.
	Person, Workspace string
	Since             time.Time
}
