package chest

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Gather keeps the chest's files few: it is called after a commit. While another process gathers, or tidies,
// nothing is done.
func (c *Chest) Gather(ctx context.Context) error {
	if _, ok := c.store.(Keeper); ok {
		return nil // it sees to that itself
	}
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
	others, err := r.others()
	for _, o := range others {
		if err == nil {
			err = walk(o.tree, o.name+"/", ledger.Commit{})
		}
	}
	return Explain(err)
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

// Still keeps others from gathering and from tidying, as long as it is held; they store and act as before.
func (c *Chest) Still(ctx context.Context) (release func(), err error) {
	wait, cancel := context.WithTimeout(ctx, tidyWait)
	defer cancel()
	l, err := c.take(wait, GatherLease)
	if err != nil {
		return nil, c.atWork(ctx, wait, err)
	}
	return l.release, nil
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
	if k, ok := c.store.(Keeper); ok {
		t, err := k.Tidy(ctx)
		return t, Explain(err)
	}
	release, err := c.Alone(ctx)
	if err != nil {
		return content.Tidied{}, err
	}
	defer release()
	reachable := map[content.Digest]bool{}
	var failed error
	err = c.reach(ctx, func(_ string, f File, _ ledger.Commit) {
		reachable[f.Digest] = true
		if failed == nil { // the record of a large folder is cut as well
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
		return content.Tidied{}, fault.New(fault.Damaged, "Nothing was removed. Run oaken health first.",
			"What the commits reach can't be told: %w.", err)
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
	if k, ok := c.store.(Keeper); ok {
		u, err := k.Usage(ctx)
		return u, Explain(err)
	}
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
		chunks, err := c.Contents.Chunks(f.Digest)
		if err != nil && failed == nil {
			failed = err
		}
		if f.Mode == Folder {
			for _, d := range append(chunks, f.Digest) {
				u.Stored += take(d)
			}
			return
		}
		use := at[p]
		if use == nil {
			use = &Use{Path: p}
			at[p] = use
		}
		n := take(f.Digest)
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
