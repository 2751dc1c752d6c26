package ledger

import (
	"time"
)

// Workspace is somebody's copy of the project, as it last told of itself.
type Workspace struct {
	Name string
	// Mark tells two workspaces of one name apart.
	Mark    string
	Person  string
	Machine string
	Folder  string
	Branch  string
	// Base is the commit that its files were brought from; zero before the first.
	Base ID
	// Held counts its commits that are not published yet.
	Held int
	// Seen is when it gave its last sign of life.
	Seen time.Time
}

// Edit is an artifact that is edited in a workspace and not committed.
type Edit struct {
	Workspace string
	Path      string
	// State is a word: new, edited, gone, moved.
	State string
	Kind  string
	// Content is the digest of what is there, in hexadecimal digits; empty for nothing.
	Content string
	// Merges says that the kind can be merged.
	Merges bool
	// Contested says that it is edited though somebody else holds its lock.
	Contested bool
	Since     time.Time
	// Told is what was changed, element by element, as JSON.
	Told string
}

// Notice is a sentence for whoever works in a workspace next.
type Notice struct {
	ID        int64
	Workspace string
	Time      time.Time
	Text      string
}
