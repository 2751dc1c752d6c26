package chest

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	"oakenchest/core/ledger"
)

// Locks gives all locks by address.
func (c *Chest) Locks(ctx context.Context) (out []ledger.Lock, err error) {
	if known, err := c.company(ctx, true); err != nil || known {
		_, out, _ = c.sight.lists()
		return out, Explain(err)
	}
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Locks(); return err })
	return out, Explain(err)
}

// LocksNear gives the locks that may have to do with some addresses.
func (c *Chest) LocksNear(ctx context.Context, addresses []string) (out []ledger.Lock, err error) {
	seen := map[string]bool{}
	err = c.View(ctx, func(r ledger.Records) error {
		for _, a := range addresses {
			near, err := r.LocksNear(a)
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
	all, err := c.Workspaces(ctx)
	return judgeOf(all, now, silentAfter), err
}

// NewJudge is Judge within a view.
func NewJudge(r ledger.People, now time.Time, silentAfter time.Duration) (Judge, error) {
	all, err := r.Workspaces()
	return judgeOf(all, now, silentAfter), err
}

func judgeOf(all []ledger.Workspace, now time.Time, silentAfter time.Duration) Judge {
	j := Judge{now, silentAfter, map[string]time.Time{}}
	for _, w := range all {
		j.seen[w.Name] = w.Seen
	}
	return j
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

// Lock takes locks, all or none, and gives those of others that it took over: locks that have ended, and, when
// asked to, those of silent workspaces. An address that another workspace holds, or that lies above or below
// one, is refused with the holder's name; what the caller holds already gets the new end and reason; had lists
// it.
func (c *Chest) Lock(ctx context.Context, q TakeLocks) (taken []ledger.Lock, had []string, err error) {
	q.Wanted = slices.Clone(q.Wanted)
	for i := range q.Wanted {
		q.Wanted[i].Address = tidyAddress(q.Wanted[i])
	}
	out, err := c.do(ctx, q)
	return out.Locks, out.Had, Explain(err)
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

// Unlock gives locks back, all or none, and says which. A lock of another workspace is refused, unless force is
// asked for; its holder then finds a notice.
func (c *Chest) Unlock(ctx context.Context, q FreeLocks) (freed []ledger.Lock, err error) {
	out, err := c.do(ctx, q)
	return out.Locks, Explain(err)
}
