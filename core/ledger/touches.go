package ledger

// Touch says that a commit changed a path, against all commits that it stands on.
type Touch struct {
	Commit Commit `json:",omitzero"`
	Path   string
	// Gone says that the path is no more; From is what it was called before, when
	// the commit moved it.
	Gone bool
	From string
}

// Commits that touch more than these many paths are noted as broad ones instead,
// by the empty path: whoever asks for a path looks into their trees.
const MaxTouches = 2000

// Extent says which commits one stands on, itself among them: of each branch,
// all up to a depth. That is enough because the commits of a branch stand on
// each other in a row.
type Extent map[string]int

// Holds reports whether a commit is among them.
func (x Extent) Holds(c Commit) bool { return c.Depth <= x[c.Branch] }
