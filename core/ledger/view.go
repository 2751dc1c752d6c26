package ledger

// Records is a consistent view of all records: of one moment, whatever others do meanwhile. Those who ask
// for it close it; one goroutine uses it at a time. Questions for one record answer ErrNotFound when there
// is none.
type Records interface {
	Graph
	People
	Stages
	// Close lets go of the view.
	Close() error
}

// Graph asks about commits, and what names them.
type Graph interface {
	// Commit gives one commit.
	Commit(ID) (Commit, error)
	// CommitAt gives the commit of a branch that has a depth; none when the branch began deeper, or does not
	// reach it.
	CommitAt(branch string, depth int) (Commit, error)
	// FirstOf gives the first commit that was published to a branch.
	FirstOf(branch string) (Commit, error)
	// CommitsByPrefix gives up to two commits whose written id begins with prefix.
	CommitsByPrefix(prefix string) ([]Commit, error)
	// Commits gives all commits, none before one that it stands on.
	Commits() ([]Commit, error)
	// CommitsBetween gives the commits of a branch above one depth and up to another, the oldest first.
	CommitsBetween(branch string, above, upTo int) ([]Commit, error)
	// CommitsBefore gives up to limit commits that come before one in the order of Older, the newest first;
	// the newest of all before the zero commit.
	CommitsBefore(last Commit, limit int) ([]Commit, error)

	// Branch gives one branch. Before the first commit its tip is zero.
	Branch(name string) (Branch, error)
	// Branches gives all branches by name, without lines.
	Branches() ([]Branch, error)
	// Lines gives the lines of an environment, by name.
	Lines(environment string) ([]Branch, error)
	// Release gives one release.
	Release(name string) (Release, error)
	// Releases gives all releases, the newest first.
	Releases() ([]Release, error)

	// Extent gives what a commit stands on.
	Extent(Commit) (Extent, error)
	// Joints gives all merges and beginnings of branches, by branch and depth.
	Joints() ([]Joint, error)
	// Touches gives what commits did to a path, or to paths below it, in any order.
	Touches(path string) ([]Touch, error)
	// TouchesAny reports whether a commit did something to one of some paths, or below it; of a broad one
	// that is not known, and counts as yes.
	TouchesAny(id ID, paths []string) (bool, error)
	// Broad gives the commits that are noted as broad.
	Broad() ([]Commit, error)
	// Picks gives, by commit, the one whose work it brings.
	Picks() (map[ID]ID, error)
	// Settled gives the merges in which people settled something.
	Settled() (map[ID]bool, error)
	// Alike gives, by commit, the others that did just what it did.
	Alike() (map[ID][]Commit, error)
	// Takings gives which commits take which works back.
	Takings() ([]Taking, error)
	// Distincts gives what is said to be different, sorted.
	Distincts() ([]Distinct, error)
}

// People asks about who is at work, and on what.
type People interface {
	// Locks gives all locks by address.
	Locks() ([]Lock, error)
	// LocksNear gives the locks that may have to do with an address: those on it, above it and below it, and
	// all patterns. It asks indexes, however many locks there are.
	LocksNear(address string) ([]Lock, error)
	// Workspaces gives all workspaces by name.
	Workspaces() ([]Workspace, error)
	// Workspace gives one workspace.
	Workspace(name string) (Workspace, error)
	// Edits gives everything that is edited anywhere, by path and workspace.
	Edits() ([]Edit, error)
	// EditsOf gives what is edited in a workspace, by path.
	EditsOf(workspace string) ([]Edit, error)
	// EditsAt gives the edits of a path, by workspace.
	EditsAt(path string) ([]Edit, error)
	// Notices gives the sentences for a workspace, the oldest first.
	Notices(workspace string) ([]Notice, error)
	// AllParked gives everything that is set aside, by person and name.
	AllParked() ([]Parked, error)
	// Parked gives what a person has set aside under a name.
	Parked(person, name string) (Parked, error)
	// Reviews gives all reviews, the newest first.
	Reviews() ([]Review, error)
	// Review gives one review.
	Review(number int64) (Review, error)
	// Remarks gives what was said in a review, in order.
	Remarks(review int64) ([]Remark, error)
}

// Stages asks about environments.
type Stages interface {
	// LastDeployment gives the newest deployment into an environment that was not undone.
	LastDeployment(environment string) (Deployment, error)
	// Deployments gives those into an environment, or all for an empty name, the newest first.
	Deployments(environment string) ([]Deployment, error)
	// Accounts gives what is known of deployments, by number.
	Accounts() (map[int64]Account, error)
	// Account gives what is known of one deployment; ErrNotFound for nothing.
	Account(deployment int64) (Account, error)
	// AllUndone gives the deployments that were taken back, by number.
	AllUndone() (map[int64]Undone, error)
	// Proofs gives the rules by which a deployment was proven, by folder; empty for one that an older program
	// recorded.
	Proofs(deployment int64) (map[string]string, error)
	// AllKept gives everything that is kept, the oldest first.
	AllKept() ([]Kept, error)
	// LastKept gives what an environment held before the newest deployment that was not undone, or before one
	// that was begun and not finished since.
	LastKept(environment string) (Kept, error)
	// KeptSince gives what an environment held before each deployment that is not undone, the newest first;
	// what was begun and not finished comes with them.
	KeptSince(environment string) ([]Kept, error)
	// Absences gives what was taken back from each environment, the oldest first.
	Absences() (map[string][]Absence, error)
	// Attempts gives those at an environment, all for an empty name, the newest first.
	Attempts(environment string) ([]Attempt, error)
	// Assents gives who wants a commit in an environment, by their last words, the first one first.
	Assents(environment string, commit ID) ([]Assent, error)
	// Bookings gives all bookings, in the order in which they were asked for.
	Bookings() ([]Booking, error)
	// Looks gives the newest look at each environment.
	Looks() (map[string]Look, error)
	// PendingPromotions gives all promotions that are being settled, the oldest first.
	PendingPromotions() ([]Pending, error)
	// ChosenFor gives how conflicts of a promotion were settled, the first one first.
	ChosenFor(origin, target string) ([]Chosen, error)
	// Planned gives all promotions that were planned, by when they are due.
	Planned() ([]Planned, error)
	// Bundles gives all releases that were planned, the first one first.
	Bundles() ([]Bundle, error)
	// Leases gives all leases, by name.
	Leases() ([]Lease, error)
}

// firstPage is how many commits Within asks for first; it asks for twice as many each time.
const firstPage, greatestPage = 32, 1024

// Within visits the commits of an extent, none before one that stands on it, the newest first, until visit
// gives false.
func Within(r Graph, x Extent, visit func(Commit) (bool, error)) error {
	var last Commit
	for size := firstPage; ; size = min(2*size, greatestPage) {
		page, err := r.CommitsBefore(last, size)
		if err != nil || len(page) == 0 {
			return err
		}
		for _, c := range page {
			if !x.Holds(c) {
				continue
			}
			if more, err := visit(c); err != nil || !more {
				return err
			}
		}
		last = page[len(page)-1]
	}
}
