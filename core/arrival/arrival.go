// Package arrival tells which work has come where: of two commits, which work one stands
// on and the other does not.
//
// Work is a commit that changed something: every commit but a plain merge; a merge in
// which people settled something is work of its own. Work has arrived in a commit when
// that stands on it, on a commit that was recorded as bringing it (a pick, through any
// number of hands), or on one that made the very same change (the same files, from the same
// content to the same) and that the work itself does not stand on.
//
// Everything is read within one transaction. A Reader serves one goroutine.
package arrival

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
)

// Reader answers questions about the work of one chest.
type Reader struct {
	tx ledger.Records

	joints  map[string][]ledger.Joint // of each branch, the deepest last
	origin  map[ledger.ID]ledger.ID   // of a pick, the first commit that did its work
	firsts  map[ledger.ID]ledger.Commit
	copies  map[ledger.ID][]ledger.Commit
	settled map[ledger.ID]bool
	twins   map[ledger.ID][]ledger.Commit // those that did just the same
	taken   takings

	extents map[ledger.ID]ledger.Extent
	known   map[string]*stretch
	missing map[[2]ledger.ID][]ledger.Commit
}

// stretch is the commits of a branch between two depths.
type stretch struct {
	above   int             // -1 when the branch begins with the first of them
	commits []ledger.Commit // of the depths above+1, above+2 and so on
}

// Open reads what joins the branches of a chest.
func Open(tx ledger.Records) (*Reader, error) {
	r := &Reader{tx: tx, joints: map[string][]ledger.Joint{}, firsts: map[ledger.ID]ledger.Commit{},
		copies: map[ledger.ID][]ledger.Commit{}, extents: map[ledger.ID]ledger.Extent{},
		known: map[string]*stretch{}, missing: map[[2]ledger.ID][]ledger.Commit{}}
	joints, err := tx.Joints()
	if err != nil {
		return nil, err
	}
	for _, j := range joints {
		r.joints[j.Branch] = append(r.joints[j.Branch], j)
	}
	for _, list := range r.joints {
		slices.SortStableFunc(list, func(a, b ledger.Joint) int { return cmp.Compare(a.Depth, b.Depth) })
	}
	if r.settled, err = tx.Settled(); err != nil {
		return nil, err
	}
	if r.twins, err = tx.Alike(); err != nil {
		return nil, err
	}
	if err := r.readPicks(); err != nil {
		return nil, err
	}
	return r, r.readTakings()
}

// readPicks follows every pick to the commit that did its work first.
func (r *Reader) readPicks() error {
	picks, err := r.tx.Picks()
	if err != nil {
		return err
	}
	r.origin = make(map[ledger.ID]ledger.ID, len(picks))
	for id := range picks {
		root := picks[id]
		for range len(picks) {
			next, more := picks[root]
			if !more {
				break
			}
			root = next
		}
		c, err := r.tx.Commit(id)
		if err != nil {
			return err
		}
		if r.firsts[root], err = r.tx.Commit(root); err != nil {
			return err
		}
		r.origin[id] = root
		r.copies[root] = append(r.copies[root], c)
	}
	return nil
}

// Root gives the commit that did a commit's work first: itself, or the one that it was
// picked from.
func (r *Reader) Root(id ledger.ID) ledger.ID {
	if root, ok := r.origin[id]; ok {
		return root
	}
	return id
}

// First gives the commit that did a commit's work first, as Root does.
func (r *Reader) First(c ledger.Commit) ledger.Commit {
	if root, ok := r.origin[c.ID]; ok {
		return r.firsts[root]
	}
	return c
}

// IsWork reports whether a commit did something itself. What takes something back is nobody's
// work.
func (r *Reader) IsWork(c ledger.Commit) bool {
	return !r.taken.isTaker[c.ID] && (len(c.Parents) < 2 || r.settled[c.ID])
}

// Extent says what a commit stands on; the zero commit stands on nothing.
func (r *Reader) Extent(c ledger.Commit) ledger.Extent {
	if x, ok := r.extents[c.ID]; ok || c.Depth == 0 {
		return x
	}
	type end struct {
		branch string
		depth  int
	}
	x := ledger.Extent{}
	for waiting := []end{{c.Branch, c.Depth}}; len(waiting) > 0; {
		e := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		from := x[e.branch]
		if e.depth <= from {
			continue
		}
		x[e.branch] = e.depth
		list := r.joints[e.branch]
		first, _ := slices.BinarySearchFunc(list, from+1, func(j ledger.Joint, depth int) int { return cmp.Compare(j.Depth, depth) })
		for _, j := range list[first:] {
			if j.Depth > e.depth {
				break
			}
			if j.OtherDepth > x[j.OtherBranch] {
				waiting = append(waiting, end{j.OtherBranch, j.OtherDepth})
			}
		}
	}
	r.extents[c.ID] = x
	return x
}

// Has reports whether a commit stands on a work, by whatever way it came, and it was not
// taken back.
func (r *Reader) Has(at, work ledger.Commit) bool {
	if of, ok := r.taken.of[work.ID]; ok {
		return at.Depth > 0 && r.has(of, at.Branch, at.Depth)
	}
	x := r.Extent(at)
	return r.holds(x, work) || r.alike(x, work)
}

// holds reports whether an extent holds a work, or a commit that brings it.
func (r *Reader) holds(x ledger.Extent, c ledger.Commit) bool {
	if x.Holds(c) {
		return true
	}
	root := r.Root(c.ID)
	return root != c.ID && x.Holds(r.firsts[root]) || slices.ContainsFunc(r.copies[root], x.Holds)
}

// FirstWith gives the first commit of a branch that has all of some work; ok is false when
// not even its tip has.
func (r *Reader) FirstWith(tip ledger.Commit, works []ledger.Commit) (c ledger.Commit, ok bool, err error) {
	has := func(at ledger.Commit) bool {
		return !slices.ContainsFunc(works, func(w ledger.Commit) bool { return !r.Has(at, w) })
	}
	if tip.Depth == 0 || !has(tip) {
		return c, false, nil
	}
	list, err := r.between(tip.Branch, 0, tip.Depth)
	if err != nil || len(list) == 0 {
		return tip, true, err
	}
	i, _ := slices.BinarySearchFunc(list, true, func(at ledger.Commit, _ bool) int { // what a commit has, those after it have
		if has(at) {
			return 0
		}
		return -1
	})
	return list[i], true, nil
}

// IsSettled reports whether a commit is a merge in which people settled something.
func (r *Reader) IsSettled(c ledger.Commit) bool { return len(c.Parents) > 1 && r.settled[c.ID] }

// Missing lists the work that one commit stands on and another does not, each once, none
// before work that it stands on itself. Of work that came by several picks the first is
// listed.
func (r *Reader) Missing(at, of ledger.Commit) ([]ledger.Commit, error) {
	key := [2]ledger.ID{at.ID, of.ID}
	if list, ok := r.missing[key]; ok || at.ID == of.ID || of.ID == (ledger.ID{}) {
		return list, nil
	}
	out, err := r.MissingOf(at, []ledger.Commit{of})
	if err == nil {
		r.missing[key] = out
	}
	return out, err
}

// MissingOf is Missing of all that several commits stand on together.
func (r *Reader) MissingOf(at ledger.Commit, of []ledger.Commit) ([]ledger.Commit, error) {
	x, all := r.Extent(at), ledger.Extent{}
	for _, c := range of {
		for branch, depth := range r.Extent(c) {
			all[branch] = max(all[branch], depth)
		}
	}
	candidates, err := r.beyond(x, all)
	if err != nil {
		return nil, err
	}
	out := []ledger.Commit{}
	seen := map[ledger.ID]bool{} // the roots of picks, and of what was picked
	for _, c := range r.withTaken(candidates, all) {
		if !r.IsWork(c) || r.Has(at, c) {
			continue
		}
		if work, ok := r.taken.of[c.ID]; ok {
			if seen[work] || !slices.ContainsFunc(of, func(o ledger.Commit) bool { return r.Has(o, c) }) {
				continue
			}
			seen[work] = true
			out = append(out, c)
			continue
		}
		if root := r.Root(c.ID); root != c.ID || len(r.copies[root]) > 0 {
			if seen[root] {
				continue
			}
			seen[root] = true
		}
		out = append(out, c)
	}
	return out, nil
}

// withTaken adds to the commits that one side has alone those that it has still, and that were
// taken back from the other.
func (r *Reader) withTaken(list []ledger.Commit, all ledger.Extent) []ledger.Commit {
	if len(r.taken.works) == 0 {
		return list
	}
	known := make(map[ledger.ID]bool, len(list))
	for _, c := range list {
		known[c.ID] = true
	}
	more := false
	for _, commits := range r.taken.works {
		for _, c := range commits {
			if all.Holds(c) && !known[c.ID] {
				list, more = append(list, c), true
			}
		}
	}
	if more {
		slices.SortFunc(list, ledger.Older)
	}
	return list
}

// Brings lists the work that a commit would bring to an environment, against what was
// deployed there last.
func (r *Reader) Brings(environment string, c ledger.Commit) ([]ledger.Commit, error) {
	d, err := r.tx.LastDeployment(environment)
	var standing ledger.Commit
	switch {
	case err == nil:
		if standing, err = r.tx.Commit(d.Commit); err != nil {
			return nil, err
		}
	case !errors.Is(err, ledger.ErrNotFound):
		return nil, err
	}
	return r.Missing(standing, c)
}

// beyond lists the commits that one extent holds and another does not, the oldest first.
func (r *Reader) beyond(at, of ledger.Extent) ([]ledger.Commit, error) {
	var out []ledger.Commit
	for branch, depth := range of {
		if depth <= at[branch] {
			continue
		}
		list, err := r.between(branch, at[branch], depth)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	slices.SortFunc(out, ledger.Older)
	return out, nil
}

// between gives the commits of a branch above one depth, up to another. What was read
// before is not read again.
func (r *Reader) between(branch string, above, upTo int) ([]ledger.Commit, error) {
	if s := r.known[branch]; s != nil && s.above <= above && s.deepest() >= upTo {
		return s.cut(above, upTo), nil
	}
	from, to := above, upTo
	if s := r.known[branch]; s != nil {
		from, to = min(from, s.above), max(to, s.deepest())
	}
	list, err := r.tx.CommitsBetween(branch, from, to)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	s := &stretch{above: from, commits: list}
	if len(list) < to-from {
		s.above = -1
	}
	r.known[branch] = s
	return s.cut(above, upTo), nil
}

func (s *stretch) deepest() int { return s.commits[len(s.commits)-1].Depth }

func (s *stretch) cut(above, upTo int) []ledger.Commit {
	first := s.commits[0].Depth
	from, to := max(above+1-first, 0), upTo+1-first
	if from >= to {
		return nil
	}
	return s.commits[from:min(to, len(s.commits))]
}

// alike reports whether an extent holds work that did just what another did, and that
// this does not stand on: else a change that was made, undone and made again would
// seem to be there. What took something back is no work, and brings none.
func (r *Reader) alike(x ledger.Extent, work ledger.Commit) bool {
	for _, o := range r.twins[work.ID] {
		if !r.taken.isTaker[o.ID] && x.Holds(o) && !r.Extent(work).Holds(o) {
			return true
		}
	}
	return false
}

// View lets fn ask about a chest.
func View(ctx context.Context, c *chest.Chest, fn func(*Reader) error) error {
	return chest.Explain(c.View(ctx, func(tx ledger.Records) error {
		r, err := Open(tx)
		if err != nil {
			return err
		}
		return fn(r)
	}))
}
