package chest

import (
	"bytes"
	"container/heap"
	"context"
	"errors"
	"slices"

	"oakenchest/core/ledger"
)

// queue orders commits so that no commit comes before one of its descendants:
// greatest generation first, then the newest.
type queue []ledger.Commit

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return ledger.Older(q[i], q[j]) > 0 }
func (q queue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)        { *q = append(*q, x.(ledger.Commit)) }
func (q *queue) Pop() any {
	old := *q
	c := old[len(old)-1]
	*q = old[:len(old)-1]
	return c
}

// Ancestors visits a commit and everything before it, descendants first, until
// visit gives false. The zero id has none.
func (c *Chest) Ancestors(ctx context.Context, from ledger.ID, visit func(ledger.Commit) (bool, error)) error {
	if from == (ledger.ID{}) {
		return nil
	}
	return Explain(c.View(ctx, func(r ledger.Records) error {
		seen, q := map[ledger.ID]bool{}, &queue{}
		push := func(ids ...ledger.ID) error {
			for _, id := range ids {
				if seen[id] {
					continue
				}
				seen[id] = true
				commit, err := r.Commit(id)
				if err != nil {
					return err
				}
				heap.Push(q, commit)
			}
			return nil
		}
		if err := push(from); err != nil {
			return err
		}
		for q.Len() > 0 {
			commit := heap.Pop(q).(ledger.Commit)
			more, err := visit(commit)
			if err != nil || !more {
				return err
			}
			if err := push(commit.Parents...); err != nil {
				return err
			}
		}
		return nil
	}))
}

// MergeBases gives the nearest commits that are ancestors of both, none of them an
// ancestor of another; several when branches were merged crosswise. They are in the order
// of their ids.
func (c *Chest) MergeBases(ctx context.Context, a, b ledger.Commit) (out []ledger.Commit, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = NewLineage(r).Bases(a, b); return err })
	return out, Explain(err)
}

// Lineage answers questions about the graph of commits, within a transaction, and
// remembers what it has found.
type Lineage struct {
	r       ledger.Graph
	extents map[ledger.ID]ledger.Extent
	ends    map[branchEnd]ledger.Commit
}

type branchEnd struct {
	branch string
	depth  int
}

// NewLineage begins with nothing.
func NewLineage(r ledger.Graph) *Lineage {
	return &Lineage{r, map[ledger.ID]ledger.Extent{}, map[branchEnd]ledger.Commit{}}
}

// Extent gives what a commit stands on; nothing for the zero commit.
func (l *Lineage) Extent(c ledger.Commit) (ledger.Extent, error) {
	if c.ID == (ledger.ID{}) {
		return nil, nil
	}
	if x, ok := l.extents[c.ID]; ok {
		return x, nil
	}
	x, err := l.r.Extent(c)
	if err == nil {
		l.extents[c.ID] = x
	}
	return x, err
}

// Bases is MergeBases: of each branch the last commit that both extents hold is a
// candidate; those that another candidate stands on are left out.
func (l *Lineage) Bases(a, b ledger.Commit) ([]ledger.Commit, error) {
	x, err := l.Extent(a)
	if err != nil {
		return nil, err
	}
	y, err := l.Extent(b)
	if err != nil {
		return nil, err
	}
	var candidates []ledger.Commit
	for branch, depth := range x {
		if d := min(depth, y[branch]); d > 0 {
			c, err := l.at(branchEnd{branch, d})
			if errors.Is(err, ledger.ErrNotFound) { // y ends before the branch begins
				continue
			}
			if err != nil {
				return nil, err
			}
			candidates = append(candidates, c)
		}
	}
	slices.SortFunc(candidates, func(p, q ledger.Commit) int { return -ledger.Older(p, q) })
	var out []ledger.Commit
	for _, c := range candidates { // the newest first: none stands on a later one
		under := false
		for _, o := range out {
			e, err := l.Extent(o)
			if err != nil {
				return nil, err
			}
			under = under || e.Holds(c)
		}
		if !under {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(p, q ledger.Commit) int { return bytes.Compare(p.ID[:], q.ID[:]) })
	return out, nil
}

func (l *Lineage) at(e branchEnd) (ledger.Commit, error) {
	if c, ok := l.ends[e]; ok {
		return c, nil
	}
	c, err := l.r.CommitAt(e.branch, e.depth)
	if err == nil {
		l.ends[e] = c
	}
	return c, err
}

// CommitAt gives the commit of a branch that has a depth; ErrNotFound when there is none.
func (c *Chest) CommitAt(ctx context.Context, branch string, depth int) (k ledger.Commit, err error) {
	if k, ok := c.sight.commitAt(branchEnd{branch, depth}); ok {
		return k, nil
	}
	err = c.View(ctx, func(r ledger.Records) error { k, err = r.CommitAt(branch, depth); return err })
	if err == nil {
		c.sight.keepCommit(k)
	}
	return k, Explain(err)
}
