package enact

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// takeLocks takes locks, all or none.
func takeLocks(tx *tables.Tx, a chest.TakeLocks) (out chest.Outcome, err error) {
	judge := sync.OnceValues(func() (chest.Judge, error) { return chest.NewJudge(tx, a.Now, a.SilentAfter) })
	for _, w := range a.Wanted {
		over, had, err := takeLock(tx, w, judge, a.TakeSilent)
		if err != nil {
			return out, err
		}
		if out.Locks = append(out.Locks, over...); had {
			out.Had = append(out.Had, w.Address)
		}
	}
	return out, nil
}

// takeLock takes one lock; had says that the caller holds it, or one that reaches it. The judge is asked for where one of
// somebody else is in the way.
func takeLock(tx *tables.Tx, w ledger.Lock, judge func() (chest.Judge, error), takeSilent bool) (over []ledger.Lock, had bool, err error) {
	near, err := tx.LocksNear(w.Address)
	if w.Pattern { // it may reach anything
		near, err = tx.Locks()
	}
	if err != nil {
		return nil, false, err
	}
	mine, same := false, false
	for _, h := range near {
		if !chest.Meet(h, w) {
			continue
		}
		if h.Holder == w.Holder && h.Workspace == w.Workspace {
			mine = mine || chest.Reaches(h, w.Address) && !w.Pattern || h.Address == w.Address
			same = same || h.Address == w.Address
			continue
		}
		j, err := judge()
		if err != nil {
			return nil, false, err
		}
		if err := mayTake(h, w, j, takeSilent); err != nil {
			return nil, false, err
		}
		if err := takeOver(tx, h, w, j); err != nil {
			return nil, false, err
		}
		over = append(over, h)
	}
	if same && (w.Reason != "" || !w.Ends.IsZero()) {
		if err := tx.RemoveLock(w.Address); err != nil {
			return nil, false, err
		}
		return over, true, tx.AddLock(w)
	}
	if mine {
		return over, true, nil
	}
	return over, false, tx.AddLock(w)
}

// mayTake refuses a lock where another one is in the way that can't be taken over.
func mayTake(h, w ledger.Lock, j chest.Judge, takeSilent bool) error {
	refused := &chest.Refusal{Reason: chest.Locked, Subject: w.Address, Lock: &h}
	switch stale := j.Of(h); {
	case stale == chest.Ended, stale == chest.Silent && takeSilent:
		return nil
	case stale == chest.Silent:
		refused.Reason, refused.Seen = chest.LockSilent, j.LastSign(h)
	case h.Holder == w.Holder:
		refused.Reason = chest.LockedElsewhere
	}
	return refused
}

// takeOver ends a stale lock, and tells its holder.
func takeOver(tx *tables.Tx, h, by ledger.Lock, j chest.Judge) error {
	text := fmt.Sprintf("Your lock of %s was taken over by %s in %s.", h.Address, by.Holder, by.Workspace)
	return errors.Join(tx.RemoveLock(h.Address), tx.AddNotice(ledger.Notice{Workspace: h.Workspace, Time: j.Now, Text: text}))
}

// freeLocks gives locks back, all or none, and says which.
func freeLocks(tx *tables.Tx, a chest.FreeLocks) (out chest.Outcome, err error) {
	for _, address := range a.Addresses {
		near, err := tx.LocksNear(address)
		if err != nil {
			return out, err
		}
		i := slices.IndexFunc(near, func(l ledger.Lock) bool {
			return l.Address == address || !l.Pattern && l.Address == path.Clean(address)
		})
		if i < 0 {
			return out, notLocked(address, near)
		}
		l := near[i]
		if own := l.Holder == a.Holder && l.Workspace == a.Workspace; !own {
			if !a.Force {
				return out, &chest.Refusal{Reason: chest.NotHolder, Subject: address, Lock: &l}
			}
			text := fmt.Sprintf("Your lock of %s was ended by %s in %s: %s", l.Address, a.Holder, a.Workspace, a.Reason)
			if err := tx.AddNotice(ledger.Notice{Workspace: l.Workspace, Time: a.Now, Text: text}); err != nil {
				return out, err
			}
		}
		if err := tx.RemoveLock(l.Address); err != nil {
			return out, err
		}
		out.Locks = append(out.Locks, l)
	}
	return out, nil
}

func notLocked(address string, near []ledger.Lock) error {
	for _, l := range near {
		if chest.Reaches(l, address) {
			return &chest.Refusal{Reason: chest.PartOfLock, Subject: address, Lock: &l}
		}
	}
	return &chest.Refusal{Reason: chest.NotLocked, Subject: address}
}
