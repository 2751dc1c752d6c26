package service

import (
	"context"
	"slices"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/service/result"
)

// LocksAsked says which locks are meant.
type LocksAsked struct {
	// Pattern is what their addresses fit, or lie below; empty for all.
	Pattern string
	// Mine means those of this workspace, Stale those that may be taken over.
	Mine, Stale bool
}

// All says that every lock is meant.
func (q LocksAsked) All() bool { return q == LocksAsked{} }

// Locks is who holds what, with what that is worth.
type Locks struct {
	List  []ledger.Lock
	Judge chest.Judge
	Crowd *chest.Crowd
}

// Locks lists who holds what; what may be taken over comes first.
func (d Desk) Locks(ctx context.Context, q LocksAsked, now time.Time) (*Locks, error) {
	w := d.Workspace
	all, err := w.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	out := &Locks{}
	if out.Judge, err = w.Chest.Judge(ctx, now, w.Manifest.Team.Silence()); err != nil {
		return nil, err
	}
	if out.Crowd, err = w.Chest.Crowd(ctx, nil); err != nil {
		return nil, err
	}
	out.List = slices.DeleteFunc(all, func(l ledger.Lock) bool {
		switch {
		case q.Mine && l.Workspace != w.Name, q.Stale && out.Judge.Of(l) == chest.Fresh:
			return true
		case q.Pattern == "":
			return false
		}
		fits, _ := doublestar.Match(q.Pattern, l.Address)
		return !fits && !chest.Covers(q.Pattern, l.Address)
	})
	rank := func(l ledger.Lock) int {
		if out.Judge.Of(l) == chest.Fresh {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(out.List, func(x, y ledger.Lock) int { return rank(x) - rank(y) })
	return out, nil
}

// Result gives it as data.
func (l *Locks) Result() result.Locks {
	return result.Locks{Locks: result.LocksOf(l.List, &l.Judge, l.Crowd)}
}
