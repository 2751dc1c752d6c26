package chest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"oakenchest/core/blob"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Hold keeps Tidy from running while a commit is being made, or, when alone is
// set, keeps everybody from making one. It waits for others for a while.
func (c *Chest) Hold(ctx context.Context, alone bool) (release func(), err error) {
	wait, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	l, err := c.hold(wait, alone)
	switch {
	case err != nil && wait.Err() != nil:
		return nil, fault.New(fault.Unreachable, "Try again when it has finished.", "Another program is working on the whole chest.")
	case errors.Is(err, os.ErrPermission) || errors.Is(err, syscall.EROFS):
		return nil, Explain(ledger.ErrReadOnly)
	case lostFile(err):
		return nil, Explain(err)
	case err != nil:
		return nil, fault.New(fault.Unreachable, "Check the connection to its place, the rights, and the room on the disk; nothing was recorded.", "The chest can't be written: %w.", err)
	}
	return l.release, nil
}

// Gather keeps the chest's files few: it is called after a commit, with the chest
// held. While another process gathers, nothing is done.
func (c *Chest) Gather(ctx context.Context) error {
	name := filepath.Join(c.holds(), "gathering")
	l, err := takeLease(name)
	if errors.Is(err, os.ErrExist) { // somebody does it, or was killed doing it
		if info, err := os.Stat(filepath.Join(c.Dir, "ledger.db")); err == nil {
			live(name, info.ModTime())
		}
		return nil
	}
	if err != nil {
		return Explain(err)
	}
	defer l.release()
	_, err = c.Blobs.Gather(ctx)
	return Explain(err)
}

// reach visits every folder and file that a commit reaches, or that is kept of an
// environment, each content once.
func (c *Chest) reach(ctx context.Context, visit func(path string, f File, commit ledger.Commit)) error {
	r, err := c.records(ctx)
	if err != nil {
		return err
	}
	seen := map[blob.Digest]bool{}
	var walk func(d blob.Digest, prefix string, commit ledger.Commit) error
	walk = func(d blob.Digest, prefix string, commit ledger.Commit) error {
		if d == (blob.Digest{}) || seen[d] {
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

// Tidy removes what no commit reaches, older than grace. Nobody can commit
// meanwhile.
func (c *Chest) Tidy(ctx context.Context, now time.Time, grace time.Duration) (blob.Tidied, error) {
	release, err := c.Hold(ctx, true)
	if err != nil {
		return blob.Tidied{}, err
	}
	defer release()
	reachable := map[blob.Digest]bool{}
	var failed error
	err = c.reach(ctx, func(_ string, f File, _ ledger.Commit) {
		reachable[f.Digest] = true
		if f.Mode != Folder && failed == nil {
			var chunks []blob.Digest
			if chunks, failed = c.Blobs.Chunks(f.Digest); failed == nil {
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
		return blob.Tidied{}, fault.New(fault.Damaged, "Nothing was removed. Run oaken health first.", "What the commits reach can't be told: %w.", err)
	}
	t, err := c.Blobs.Tidy(ctx, now, grace, func(d blob.Digest) bool { return reachable[d] })
	return t, Explain(err)
}

// Use is what the versions of one artifact take.
type Use struct {
	Path     string
	Versions int
	// Newest names the newest version's content.
	Newest blob.Digest
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
func (c *Chest) Head(d blob.Digest, n int) ([]byte, error) {
	in, err := c.Blobs.Open(d)
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
func (c *Chest) Transfer(tree blob.Digest) (int64, error) {
	files, err := c.Files(tree)
	if err != nil {
		return 0, Explain(err)
	}
	counted, total := map[blob.Digest]bool{}, int64(0)
	take := func(d blob.Digest) {
		if !counted[d] {
			counted[d] = true
			n, _ := c.Blobs.Stored(d)
			total += n
		}
	}
	for _, f := range files {
		if f.Mode == Folder || counted[f.Digest] {
			continue
		}
		take(f.Digest)
		chunks, err := c.Blobs.Chunks(f.Digest)
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
	at, counted := map[string]*Use{}, map[blob.Digest]bool{}
	take := func(d blob.Digest) int64 {
		if counted[d] {
			return 0
		}
		counted[d] = true
		n, _ := c.Blobs.Stored(d)
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
		chunks, err := c.Blobs.Chunks(f.Digest)
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
