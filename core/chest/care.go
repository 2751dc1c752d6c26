package chest

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
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
	for _, tree := range treesOf(a) {
		whole, err := c.whole(ctx, tree)
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

// treesOf gives the trees that an act names.
func treesOf(a Act) (out []content.Digest) {
	written := func(tree string) {
		if d, err := hex.DecodeString(tree); err == nil && len(d) == len(content.Digest{}) {
			out = append(out, content.Digest(d))
		}
	}
	switch a := a.(type) {
	case Publish:
		for _, d := range a.Drafts {
			out = append(out, d.Tree)
		}
		if a.Merge != nil {
			out = append(out, a.Merge.Tree)
		}
		if a.Deployment != nil {
			written(a.Deployment.Account.Tree)
		}
	case Keep:
		written(a.Kept.Tree)
	case Park:
		written(a.Parked.Tree)
	case Assent:
		written(a.Assent.Tree)
	}
	return out
}

// whole reports whether everything that a tree holds is in the chest, as its keys say.
func (c *Chest) whole(ctx context.Context, tree content.Digest) (bool, error) {
	if tree == (content.Digest{}) {
		return true, nil
	}
	if !c.Contents.Has(tree) {
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
		if !c.Contents.Has(e.Digest) {
			return false, nil
		}
		chunks, err := c.Contents.Chunks(e.Digest)
		if err != nil {
			return false, nil //nolint:nilerr // a list that can't be read is not whole
		}
		for _, chunk := range chunks {
			if !c.Contents.Has(chunk) {
				return false, nil
			}
		}
	}
	return true, nil
}

// Gather keeps the chest's files few: it is called after a commit. While another process gathers, or tidies,
// nothing is done.
func (c *Chest) Gather(ctx context.Context) error {
	if many, err := c.Contents.Many(); err != nil || !many {
		return Explain(err)
	}
	now, err := c.leaseNow(ctx, GatherLease)
	if err != nil || now.Owner != "" && c.stillHeld(now) {
		return Explain(err)
	}
	l, err := c.tryTake(ctx, now)
	if err != nil {
		if refused(err, Taken) {
			return nil
		}
		return Explain(err)
	}
	defer l.release()
	_, err = c.Contents.Gather(ctx)
	return Explain(err)
}

// stillHeld reports whether a lease that is only of use may be somebody's still: those who don't wait can't
// watch it, and go by its age.
func (c *Chest) stillHeld(l ledger.Lease) bool {
	const patience = 10 * time.Minute
	return c.store.Now().Sub(l.Since) < patience
}

// reach visits every folder and file that a commit reaches, or that is kept of an
// environment, each content once.
func (c *Chest) reach(ctx context.Context, visit func(path string, f File, commit ledger.Commit)) error {
	r, err := c.records(ctx)
	if err != nil {
		return err
	}
	seen := map[content.Digest]bool{}
	var walk func(d content.Digest, prefix string, commit ledger.Commit) error
	walk = func(d content.Digest, prefix string, commit ledger.Commit) error {
		if d == (content.Digest{}) || seen[d] {
			return nil
		}
		seen[d] = true
		if err := (&bounds{1}).enter(prefix); err != nil {
			return err
		}
		visit(strings.TrimSuffix(prefix, "/"), File{Mode: Folder, Digest: d}, commit)
		entries, err := c.folder(d)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if e.Mode == Folder {
				if err := walk(e.Digest, prefix+e.Path+"/", commit); err != nil {
					return err
				}
			} else if !seen[e.Digest] {
				seen[e.Digest] = true
				visit(prefix+e.Path, e, commit)
			}
		}
		return ctx.Err()
	}
	for _, commit := range r.commits {
		if err := walk(commit.Tree, "", commit); err != nil {
			return Explain(err)
		}
	}
	for _, p := range r.parked {
		tree, err := treeOf(ledger.Kept{Environment: "the work parked as " + p.Name, Tree: p.Tree})
		if err == nil {
			err = walk(tree, "parked:"+p.Name+"/", ledger.Commit{})
		}
		if err != nil {
			return Explain(err)
		}
	}
	for n, a := range r.accounts {
		if a.Tree == "" {
			continue
		}
		tree, err := treeOf(ledger.Kept{Environment: "an environment", Tree: a.Tree})
		if err == nil {
			err = walk(tree, fmt.Sprintf("the account of deployment %d/", n), ledger.Commit{})
		}
		if err != nil {
			return Explain(err)
		}
	}
	for _, k := range r.kept {
		tree, err := treeOf(k)
		if err == nil {
			err = walk(tree, k.Environment+" before a deployment/", ledger.Commit{})
		}
		if err != nil {
			return Explain(err)
		}
	}
	return nil
}

// Alone keeps others from storing contents and from gathering them, as long as it is held. It begins when nobody
// changes an environment: what a deployment has stored is named when it has ended.
func (c *Chest) Alone(ctx context.Context) (release func(), err error) {
	wait, cancel := context.WithTimeout(ctx, tidyWait)
	defer cancel()
	gathering, err := c.take(wait, GatherLease)
	if err != nil {
		return nil, c.atWork(ctx, wait, err)
	}
	watched := map[string]*leaseWatch{}
	for {
		tidying, err := c.take(wait, TidyLease)
		busy := false
		if err == nil {
			if busy, err = c.environmentsBusy(wait, watched); err == nil && !busy {
				return func() { tidying.release(); gathering.release() }, nil
			}
			tidying.release() // those who deploy may be waiting for it
		}
		if err == nil {
			err = pause(wait)
		}
		if err != nil {
			gathering.release()
			return nil, c.atWork(ctx, wait, err)
		}
	}
}

// environmentsBusy reports whether somebody changes an environment now.
func (c *Chest) environmentsBusy(ctx context.Context, watched map[string]*leaseWatch) (busy bool, err error) {
	var all []ledger.Lease
	err = c.View(ctx, func(r ledger.Records) error { all, err = r.Leases(); return err })
	for _, l := range all {
		if err != nil {
			return false, err
		}
		if !strings.HasPrefix(l.Name, environmentLease) || l.Owner == "" {
			continue
		}
		w := watched[l.Name]
		if w == nil {
			w = &leaseWatch{}
			watched[l.Name] = w
		}
		var free bool
		free, err = w.look(ctx, c, l.Name)
		busy = busy || !free
	}
	return busy, err
}

// Tidy removes what no commit reaches, older than grace. Nobody can store contents meanwhile, and whoever had
// begun to finds out when it acts.
func (c *Chest) Tidy(ctx context.Context, now time.Time, grace time.Duration) (content.Tidied, error) {
	release, err := c.Alone(ctx)
	if err != nil {
		return content.Tidied{}, err
	}
	defer release()
	reachable := map[content.Digest]bool{}
	var failed error
	err = c.reach(ctx, func(_ string, f File, _ ledger.Commit) {
		reachable[f.Digest] = true
		if f.Mode != Folder && failed == nil {
			var chunks []content.Digest
			if chunks, failed = c.Contents.Chunks(f.Digest); failed == nil {
				for _, d := range chunks {
					reachable[d] = true
				}
			}
		}
	})
	if err == nil {
		err = failed
	}
	if err != nil {
		return content.Tidied{}, fault.New(fault.Damaged, "Nothing was removed. Run oaken health first.", "What the commits reach can't be told: %w.", err)
	}
	t, err := c.Contents.Tidy(ctx, now, grace, func(d content.Digest) bool { return reachable[d] })
	return t, Explain(err)
}

// Use is what the versions of one artifact take.
type Use struct {
	Path     string
	Versions int
	// Newest names the newest version's content.
	Newest content.Digest
	// Size is that of the newest version, Stored what all versions take in the
	// chest beyond what others take already, in bytes.
	Size, Stored int64
}

// Usage is what a chest takes.
type Usage struct {
	// Stored is the size of all content in the chest, Whole what it would be
	// without sharing and compression, in bytes.
	Stored, Whole int64
	Commits       int
	// Artifacts lists paths, the one that takes most first.
	Artifacts []Use
}

// Head gives the first n bytes of content, fewer when it has no more.
func (c *Chest) Head(d content.Digest, n int) ([]byte, error) {
	in, err := c.Contents.Open(d)
	if err != nil {
		return nil, Explain(err)
	}
	defer in.Close()
	head := make([]byte, n)
	n, err = io.ReadFull(in, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return head[:n], Explain(err)
}

// Transfer gives what has to be read for the files of a tree, in bytes as they
// are stored, each chunk once.
func (c *Chest) Transfer(tree content.Digest) (int64, error) {
	files, err := c.Files(tree)
	if err != nil {
		return 0, Explain(err)
	}
	counted, total := map[content.Digest]bool{}, int64(0)
	take := func(d content.Digest) {
		if !counted[d] {
			counted[d] = true
			n, _ := c.Contents.Stored(d)
			total += n
		}
	}
	for _, f := range files {
		if f.Mode == Folder || counted[f.Digest] {
			continue
		}
		take(f.Digest)
		chunks, err := c.Contents.Chunks(f.Digest)
		if err != nil {
			return 0, Explain(err)
		}
		for _, d := range chunks {
			take(d)
		}
	}
	return total, nil
}

// Usage measures what takes the space. Content that several paths share counts
// for the one that had it first.
func (c *Chest) Usage(ctx context.Context) (*Usage, error) {
	u := &Usage{}
	at, counted := map[string]*Use{}, map[content.Digest]bool{}
	take := func(d content.Digest) int64 {
		if counted[d] {
			return 0
		}
		counted[d] = true
		n, _ := c.Contents.Stored(d)
		return n
	}
	var failed error
	err := c.reach(ctx, func(p string, f File, _ ledger.Commit) {
		if f.Mode == Folder {
			u.Stored += take(f.Digest)
			return
		}
		use := at[p]
		if use == nil {
			use = &Use{Path: p}
			at[p] = use
		}
		n := take(f.Digest)
		chunks, err := c.Contents.Chunks(f.Digest)
		if err != nil && failed == nil {
			failed = err
		}
		for _, d := range chunks {
			n += take(d)
		}
		use.Versions++
		use.Size, use.Newest = f.Size, f.Digest
		use.Stored += n
		u.Stored += n
		u.Whole += f.Size
	})
	if err == nil {
		err = failed
	}
	for _, use := range at {
		u.Artifacts = append(u.Artifacts, *use)
	}
	slices.SortFunc(u.Artifacts, func(a, b Use) int {
		if a.Stored != b.Stored {
			return int(min(max(b.Stored-a.Stored, -1), 1))
		}
		return strings.Compare(a.Path, b.Path)
	})
	return u, Explain(err)
}
