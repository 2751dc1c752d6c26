package chest

import (
	"context"
	"encoding/hex"
	"errors"
	"slices"
	"sync"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Hold notes on what contents are going to be stored: acts until its release name those contents, and are
// refused when the chest was tidied since. It waits for a while when the chest is being tidied now.
func (c *Chest) Hold(ctx context.Context) (release func(), err error) {
	fence, err := c.untidied(ctx)
	if err != nil {
		return nil, err
	}
	h := &c.leases
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.fresh || fence != h.seen { // what is believed to be there may be gone
		if err := c.Contents.Refresh(); err != nil {
			return nil, Explain(err)
		}
		h.fresh, h.seen = true, fence
	}
	if h.storing == 0 {
		h.tidied = fence
	}
	h.storing++
	return sync.OnceFunc(func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.storing--
	}), nil
}

// Storing lets store put contents into the chest and act on them, and again, from the start, when the chest was
// tidied in between.
func (c *Chest) Storing(ctx context.Context, store func() error) error {
	const patience = 4
	for n := 0; ; n++ {
		release, err := c.Hold(ctx)
		if err != nil {
			return err
		}
		err = store()
		release()
		if !refused(err, Tidied) && !errors.Is(err, content.ErrSwept) || n == patience {
			return Explain(err)
		}
	}
}

// Untidied waits until nobody tidies the chest, and gives how often that was done.
func (c *Chest) Untidied(ctx context.Context) (int64, error) { return c.untidied(ctx) }

// untidied waits until nobody tidies the chest, and gives how often that was done.
func (c *Chest) untidied(ctx context.Context) (int64, error) {
	wait, cancel := context.WithTimeout(ctx, tidyWait)
	defer cancel()
	for w := (leaseWatch{}); ; {
		free, err := w.look(wait, c, TidyLease)
		if free && w.seen.Owner != "" { // whoever tidied was killed
			var l *lease
			if l, err = c.tryTake(wait, w.seen); err == nil {
				l.release()
			} else if refused(err, Taken) {
				err = nil
			}
			free = false
		}
		if err == nil && free {
			return w.seen.Fence, nil
		}
		if err == nil {
			err = pause(wait)
		}
		if err != nil {
			return 0, c.atWork(ctx, wait, err)
		}
	}
}

// tidyWait bounds how long others wait for whoever tidies.
const tidyWait = 2 * time.Minute

// pause waits for a moment.
func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(glance):
		return nil
	}
}

// atWork says for people that waiting was in vain.
func (c *Chest) atWork(ctx, wait context.Context, err error) error {
	if ctx.Err() == nil && wait.Err() != nil {
		return fault.New(fault.Unreachable, "Try again when it has finished.", "Another program is working on the whole chest.")
	}
	return Explain(err)
}

// standAgain looks whether all that an act names is still there, after the chest was tidied, and gives how often
// it had been: on that ground this act, and no other, can be asked for again.
func (c *Chest) standAgain(ctx context.Context, a Act) (fence int64, err error) {
	if fence, err = c.untidied(ctx); err != nil {
		return 0, err
	}
	if err := c.Contents.Refresh(); err != nil {
		return 0, err
	}
	for _, n := range TreesOf(a) {
		whole, err := c.whole(ctx, n.Tree)
		if err != nil && !gone(err) {
			return 0, err
		}
		if !whole {
			return 0, &Refusal{Reason: Tidied, Subject: a.Subject()}
		}
	}
	return fence, nil
}

// gone reports whether an error says that content is not there.
func gone(err error) bool {
	var damage *content.DamageError
	return errors.Is(err, content.ErrMissing) || errors.As(err, &damage)
}

// overtaken says, of an error while contents were looked at that were stored under a hold, that the chest was
// tidied meanwhile, where it was.
func (c *Chest) overtaken(ctx context.Context, err error) error {
	on := c.leases.grounds()
	if on.Tidied == nil || !gone(err) {
		return err
	}
	if now, failed := c.leaseNow(ctx, TidyLease); failed == nil && now.Fence != *on.Tidied {
		return &Refusal{Reason: Tidied}
	}
	return err
}

// Named is a tree that an act names.
type Named struct {
	Tree content.Digest
	// Like are commits that it was made from; zero ones are none.
	Like []ledger.ID
}

// TreesOf gives the trees that an act names.
func TreesOf(a Act) (out []Named) {
	written := func(tree string, like ...ledger.ID) {
		if d, err := hex.DecodeString(tree); err == nil && len(d) == len(content.Digest{}) {
			out = append(out, Named{content.Digest(d), like})
		}
	}
	switch a := a.(type) {
	case Publish:
		for _, d := range a.Drafts {
			out = append(out, Named{d.Tree, []ledger.ID{d.Tip, d.Merged, d.Picks}})
		}
		if a.Merge != nil {
			out = append(out, Named{a.Merge.Tree, []ledger.ID{a.Merge.Tip}})
		}
		if a.Deployment != nil {
			written(a.Deployment.Account.Tree, a.Deployment.Commit)
		}
	case Keep:
		written(a.Kept.Tree)
	case Park:
		written(a.Parked.Tree, a.Parked.Base)
	case Assent:
		written(a.Assent.Tree, a.Assent.Commit)
	}
	return out
}

// whole reports whether everything that a tree holds is in the chest, as its keys say.
func (c *Chest) whole(ctx context.Context, tree content.Digest) (bool, error) {
	if tree == (content.Digest{}) {
		return true, nil
	}
	if !c.there(tree) {
		return false, nil
	}
	entries, err := c.folder(tree)
	if err != nil {
		return false, err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		if e.Mode == Folder {
			if whole, err := c.whole(ctx, e.Digest); err != nil || !whole {
				return whole, err
			}
			continue
		}
		if !c.there(e.Digest) {
			return false, nil
		}
	}
	return true, nil
}

// Holds reports whether content is in the chest with all that it is made of.
func (c *Chest) Holds(d content.Digest) bool { return c.there(d) }

// there reports whether content is in the chest with all that it is made of.
func (c *Chest) there(d content.Digest) bool {
	if !c.Contents.Has(d) {
		return false
	}
	chunks, err := c.Contents.Chunks(d)
	return err == nil && !slices.ContainsFunc(chunks, func(chunk content.Digest) bool { return !c.Contents.Has(chunk) })
}
