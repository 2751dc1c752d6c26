package chest

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Locks gives all locks by address.
func (c *Chest) Locks(ctx context.Context) (out []ledger.Lock, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Locks(); return err })
	return out, Explain(err)
}

// LocksNear gives the locks that may have to do with some addresses.
func (c *Chest) LocksNear(ctx context.Context, addresses []string) (out []ledger.Lock, err error) {
	seen := map[string]bool{}
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		for _, a := range addresses {
			near, err := tx.LocksNear(a)
			if err != nil {
				return err
			}
			for _, l := range near {
				if !seen[l.Address] {
					seen[l.Address] = true
					out = append(out, l)
				}
			}
		}
		return nil
	})
	return out, Explain(err)
}

// tidyAddress gives an address in its one form.
func tidyAddress(l ledger.Lock) string {
	if strings.Contains(l.Address, "::") || l.Pattern {
		return l.Address
	}
	return path.Clean(l.Address)
}

// Staleness says why a lock may be taken over.
type Staleness string

// The reasons.
const (
	Fresh  Staleness = ""
	Ended  Staleness = "ended"
	Silent Staleness = "silent"
)

// Judge tells whether locks are stale.
type Judge struct {
	Now time.Time
	// SilentAfter is how long a workspace may give no sign of life; 0 for as long as
	// it likes.
	SilentAfter time.Duration
	seen        map[string]time.Time
}

// Judge gives a judge who knows of all workspaces.
func (c *Chest) Judge(ctx context.Context, now time.Time, silentAfter time.Duration) (j Judge, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { j, err = judge(tx, now, silentAfter); return err })
	return j, Explain(err)
}

func judge(tx *ledger.Tx, now time.Time, silentAfter time.Duration) (Judge, error) {
	all, err := tx.Workspaces()
	j := Judge{now, silentAfter, map[string]time.Time{}}
	for _, w := range all {
		j.seen[w.Name] = w.Seen
	}
	return j, err
}

// Of tells whether a lock is stale.
func (j Judge) Of(l ledger.Lock) Staleness {
	switch {
	case !l.Ends.IsZero() && !j.Now.Before(l.Ends):
		return Ended
	case j.SilentAfter > 0 && j.Now.Sub(j.LastSign(l)) > j.SilentAfter:
		return Silent
	}
	return Fresh
}

// LastSign gives when the workspace of a lock was last at work.
func (j Judge) LastSign(l ledger.Lock) time.Time {
	if seen := j.seen[l.Workspace]; seen.After(l.Since) {
		return seen
	}
	return l.Since
}

// LockRequest is what Lock is asked for.
type LockRequest struct {
	// Wanted are the locks, all of one holder in one workspace.
	Wanted []ledger.Lock
	Now    time.Time
	// SilentAfter is after what time without sign of life a workspace's locks may be
	// taken over; TakeSilent takes those over that are in the way.
	SilentAfter time.Duration
	TakeSilent  bool
}

// Lock takes locks, all or none, and gives those of others that it took over: locks that
// have ended, and, when asked to, those of silent workspaces. An address that another
// workspace holds, or that lies above or below one, is refused with the holder's name;
// what the caller holds already gets the new end and reason; had lists it.
func (c *Chest) Lock(ctx context.Context, q LockRequest) (taken []ledger.Lock, had []string, err error) {
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		j, err := judge(tx, q.Now, q.SilentAfter)
		if err != nil {
			return err
		}
		taken, had = nil, nil
		for _, w := range q.Wanted {
			w.Address = tidyAddress(w)
			over, mine, err := lockOne(tx, w, j, q.TakeSilent)
			if err != nil {
				return err
			}
			if taken = append(taken, over...); mine {
				had = append(had, w.Address)
			}
		}
		return nil
	})
	if err != nil {
		taken = nil
	}
	return taken, had, Explain(err)
}

// lockOne takes one lock; had says that the caller holds it, or one that reaches it.
func lockOne(tx *ledger.Tx, w ledger.Lock, j Judge, takeSilent bool) (taken []ledger.Lock, had bool, err error) {
	near, err := tx.LocksNear(w.Address)
	if w.Pattern { // it may reach anything
		near, err = tx.Locks()
	}
	if err != nil {
		return nil, false, err
	}
	mine, same := false, false
	for _, h := range near {
		if !Meet(h, w) {
			continue
		}
		if h.Holder == w.Holder && h.Workspace == w.Workspace {
			mine = mine || Reaches(h, w.Address) && !w.Pattern || h.Address == w.Address
			same = same || h.Address == w.Address
			continue
		}
		switch stale := j.Of(h); {
		case stale == Ended, stale == Silent && takeSilent:
			if err := takeOver(tx, h, w, j.Now); err != nil {
				return nil, false, err
			}
			taken = append(taken, h)
		case stale == Silent:
			return nil, false, fault.New(fault.Refused, "Take it over with oaken lock --take-over, or ask "+h.Holder+".", "%s is locked by %s, whose workspace has given no sign of life since %s.", h.Address, HolderText(h), clock(j.LastSign(h)))
		case h.Holder == w.Holder:
			return nil, false, fault.New(fault.Refused, "Commit there, or run oaken unlock "+fault.Word(h.Address)+" there.", "%s is locked by you, in another workspace: %s.", h.Address, HolderText(h))
		default:
			return nil, false, fault.New(fault.Refused, "Ask "+h.Holder+" to commit or to run oaken unlock "+fault.Word(h.Address)+".", "%s is locked by %s.", h.Address, HolderText(h))
		}
	}
	if same && (w.Reason != "" || !w.Ends.IsZero()) {
		if err := tx.RemoveLock(w.Address); err != nil {
			return nil, false, err
		}
		mine, had = false, true
	}
	if mine {
		return taken, true, nil
	}
	return taken, had, tx.AddLock(w)
}

// takeOver ends a stale lock, and tells its holder.
func takeOver(tx *ledger.Tx, h, by ledger.Lock, now time.Time) error {
	return errors.Join(tx.RemoveLock(h.Address),
		tx.AddNotice(ledger.Notice{Workspace: h.Workspace, Time: now, Text: fmt.Sprintf("Your lock of %s was taken over by %s in %s.", h.Address, by.Holder, by.Workspace)}))
}

// clock writes a time for people.
func clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// HolderText says who holds a lock, where, since when and until when, for people.
func HolderText(l ledger.Lock) string {
	out := l.Holder + " in " + l.Workspace + " since " + clock(l.Since)
	if !l.Ends.IsZero() {
		out += ", until " + clock(l.Ends)
	}
	return out
}

// UnlockRequest is what Unlock is asked for.
type UnlockRequest struct {
	Holder, Workspace string
	Addresses         []string
	// Force gives back what others hold, for a reason that they are told.
	Force  bool
	Reason string
	Now    time.Time
}

// Unlock gives locks back, all or none, and says which. A lock of another workspace is
// refused, unless force is asked for; its holder then finds a notice.
func (c *Chest) Unlock(ctx context.Context, q UnlockRequest) (freed []ledger.Lock, err error) {
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		freed = nil
		for _, a := range q.Addresses {
			near, err := tx.LocksNear(a)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(near, func(l ledger.Lock) bool { return l.Address == a || !l.Pattern && l.Address == path.Clean(a) })
			if i < 0 {
				return notLocked(a, near)
			}
			l := near[i]
			if own := l.Holder == q.Holder && l.Workspace == q.Workspace; !own {
				if !q.Force {
					return fault.New(fault.Refused, "Only the holder gives a lock back, or oaken unlock --force with a reason.", "%s is locked by %s.", l.Address, HolderText(l))
				}
				text := fmt.Sprintf("Your lock of %s was ended by %s in %s: %s", l.Address, q.Holder, q.Workspace, q.Reason)
				if err := tx.AddNotice(ledger.Notice{Workspace: l.Workspace, Time: q.Now, Text: text}); err != nil {
					return err
				}
			}
			if err := tx.RemoveLock(l.Address); err != nil {
				return err
			}
			freed = append(freed, l)
		}
		return nil
	})
	return freed, Explain(err)
}

func notLocked(a string, near []ledger.Lock) error {
	for _, l := range near {
		if Reaches(l, a) {
			return fault.New(fault.Usage, "Name "+l.Address+" to end that lock, whole.", "%s is locked as a part of %s.", a, l.Address)
		}
	}
	return fault.New(fault.Usage, "oaken locks lists the locks.", "%s is not locked.", a)
}
