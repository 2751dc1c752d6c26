package arrival

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
)

// Some work was taken back: a rollback, or the withdrawal of a work item, made a commit that
// takes it away again. Let w be a work, with its picks and all that did just the same, and
// c a commit. Then c has w
//
//	when c is one of w;
//	else not, when c takes w back;
//	else when any parent of c has it.
//
// So a taking back holds along first parents until the work is merged again, or picked. It
// is nobody's work itself and never travels: every merge stands on what both sides have in
// common without what just one of them has taken back.

// takings is what was taken back in a chest.
type takings struct {
	of      map[ledger.ID]ledger.ID       // the work that a commit is one of
	works   map[ledger.ID][]ledger.Commit // the commits of a work
	takers  map[ledger.ID][]ledger.Commit // those that take it back
	isTaker map[ledger.ID]bool
	known   map[takenKey]bool
}

type takenKey struct {
	work   ledger.ID
	branch string
	depth  int
}

// readTakings reads what was taken back, with all that goes along with it.
func (r *Reader) readTakings() error {
	list, err := r.tx.Takings()
	if err != nil {
		return err
	}
	r.taken = takings{map[ledger.ID]ledger.ID{}, map[ledger.ID][]ledger.Commit{}, map[ledger.ID][]ledger.Commit{}, map[ledger.ID]bool{},
		map[takenKey]bool{}}
	for _, t := range list { // what one of them did is no other's work, in whatever order they come
		r.taken.isTaker[t.Commit] = true
	}
	for _, t := range list {
		taker, err := r.tx.Commit(t.Commit)
		if err != nil {
			return err
		}
		root := r.Root(t.Work)
		if known, ok := r.taken.of[root]; ok {
			root = known
		}
		r.taken.takers[root] = append(r.taken.takers[root], taker)
		if _, known := r.taken.works[root]; known {
			continue
		}
		first, ok := r.firsts[root]
		if !ok {
			if first, err = r.tx.Commit(root); err != nil {
				return err
			}
		}
		r.gather(root, first)
		for _, c := range r.copies[root] {
			r.gather(root, c)
		}
	}
	return nil
}

// gather notes a commit of a work, and those that did just the same.
func (r *Reader) gather(work ledger.ID, c ledger.Commit) {
	for _, x := range append([]ledger.Commit{c}, r.twins[c.ID]...) {
		if _, known := r.taken.of[x.ID]; !known && !r.taken.isTaker[x.ID] {
			r.taken.of[x.ID] = work
			r.taken.works[work] = append(r.taken.works[work], x)
		}
	}
}

// has reports whether a commit has a work that was taken back somewhere. It goes back from
// one event on the branch to the one before: the work came, it went, another branch came in;
// so each is looked at once.
func (r *Reader) has(work ledger.ID, branch string, depth int) bool {
	last := func(list []ledger.Commit) int {
		at := 0
		for _, c := range list {
			if c.Branch == branch && c.Depth <= depth {
				at = max(at, c.Depth)
			}
		}
		return at
	}
	came, went := last(r.taken.works[work]), last(r.taken.takers[work])
	joints := r.joints[branch]
	n, _ := slices.BinarySearchFunc(joints, depth+1, func(j ledger.Joint, d int) int { return cmp.Compare(j.Depth, d) })
	if n == 0 || joints[n-1].Depth <= max(came, went) {
		return came > went
	}
	joint := joints[n-1]
	key := takenKey{work, branch, joint.Depth}
	if yes, ok := r.taken.known[key]; ok {
		return yes
	}
	yes := false
	for ; n > 0 && joints[n-1].Depth == joint.Depth; n-- { // a branch may begin with a merge
		yes = yes || r.has(work, joints[n-1].OtherBranch, joints[n-1].OtherDepth)
	}
	yes = yes || r.has(work, branch, joint.Depth-1)
	r.taken.known[key] = yes
	return yes
}

// Lacks reports whether a work was taken back from a commit that it had come to.
func (r *Reader) Lacks(c ledger.Commit, work ledger.ID) bool {
	x := r.Extent(c)
	return slices.ContainsFunc(r.taken.works[work], x.Holds) && !r.has(work, c.Branch, c.Depth)
}

// TakenBy gives the works that a commit takes back, by their first commits.
func (r *Reader) TakenBy(c ledger.Commit) (out []ledger.ID) {
	for work, takers := range r.taken.takers {
		if slices.ContainsFunc(takers, func(t ledger.Commit) bool { return t.ID == c.ID }) {
			out = append(out, work)
		}
	}
	return out
}

// TakenApart lists, the oldest first, the commits that took something back which just one of
// two commits counts as taken back, and which the commits that both stand on have: what they
// did is to be done to that before the two are merged.
func (r *Reader) TakenApart(a, b ledger.Commit, common []ledger.Commit) (out []ledger.Commit) {
	for work, takers := range r.taken.takers {
		inA, inB := r.Lacks(a, work), r.Lacks(b, work)
		if inA == inB || !slices.ContainsFunc(common, func(c ledger.Commit) bool { return r.has(work, c.Branch, c.Depth) }) {
			continue
		}
		side := r.Extent(a)
		if inB {
			side = r.Extent(b)
		}
		var last ledger.Commit
		for _, t := range takers {
			if side.Holds(t) && (last.Depth == 0 || ledger.Older(last, t) < 0) {
				last = t
			}
		}
		if last.Depth > 0 && !slices.ContainsFunc(out, func(c ledger.Commit) bool { return c.ID == last.ID }) {
			out = append(out, last)
		}
	}
	slices.SortFunc(out, ledger.Older)
	return out
}

// TakenApart is that of a Reader, for a chest of which mostly nothing was ever taken back.
func TakenApart(ctx context.Context, c *chest.Chest, a, b ledger.Commit, common []ledger.Commit) (out []ledger.Commit, err error) {
	errNone := errors.New("nothing was taken back")
	err = c.View(ctx, func(tx ledger.Records) error {
		list, err := tx.Takings()
		if err == nil && len(list) == 0 {
			err = errNone
		}
		if err != nil {
			return err
		}
		r, err := Open(tx)
		if err == nil {
			out = r.TakenApart(a, b, common)
		}
		return err
	})
	if errors.Is(err, errNone) {
		return nil, nil
	}
	return out, chest.Explain(err)
}
