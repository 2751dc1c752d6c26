package chest

import (
	"container/heap"
	"context"

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
	return Explain(c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		seen, q := map[ledger.ID]bool{}, &queue{}
		push := func(ids ...ledger.ID) error {
			for _, id := range ids {
				if seen[id] {
					continue
				}
				seen[id] = true
				commit, err := tx.Commit(id)
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

// MergeBase gives the nearest commit that is an ancestor of both, the zero ID
// when there is none. Of several nearest ones it gives the first by generation.
func (c *Chest) MergeBase(ctx context.Context, a, b ledger.ID) (ledger.ID, error) {
	const fromA, fromB = 1, 2
	var base ledger.ID
	if a == (ledger.ID{}) || b == (ledger.ID{}) {
		return base, nil
	}
	err := c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		paint, q := map[ledger.ID]int{}, &queue{}
		push := func(id ledger.ID, colour int) error {
			old, seen := paint[id]
			paint[id] = old | colour
			if seen {
				return nil
			}
			commit, err := tx.Commit(id)
			if err == nil {
				heap.Push(q, commit)
			}
			return err
		}
		if err := push(a, fromA); err != nil {
			return err
		}
		if err := push(b, fromB); err != nil {
			return err
		}
		for q.Len() > 0 {
			commit := heap.Pop(q).(ledger.Commit)
			if paint[commit.ID] == fromA|fromB {
				base = commit.ID
				return nil
			}
			for _, p := range commit.Parents {
				if err := push(p, paint[commit.ID]); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return base, Explain(err)
}
