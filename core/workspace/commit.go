package workspace

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"oakenchest/core/blob"
	"oakenchest/core/blob/cut"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// CommitOptions are the choices of Commit.
type CommitOptions struct {
	// Paths narrows the commit; none means everything that changed.
	Paths   []string
	Message string
	Item    string
	// KeepLocks leaves the locks of what is committed as they are.
	KeepLocks bool
}

// Committed is what Commit has done.
type Committed struct {
	Commit ledger.Commit
	// Changes lists what was recorded; empty when there was nothing to.
	Changes []Change
	// Released lists the locks that ended.
	Released []string
	Merge    bool
	// Along lists changed files that went along with chosen ones as companions.
	Along []string
	// Ended lists files whose lines were ended as the project's rules ask.
	Ended []string
	// Warnings are sentences about what may trouble others.
	Warnings []string
}

// Commit records changes and publishes them at once. With a merge under way it
// completes the merge. A change that needs a lock which is not held is refused.
func (w *Workspace) Commit(ctx context.Context, o CommitOptions) (*Committed, error) {
	pending, err := w.Pending()
	if err != nil {
		return nil, err
	}
	if err := w.checkMessage(&o, pending); err != nil {
		return nil, err
	}
	if pending != nil {
		return w.commitMerge(ctx, o, pending)
	}
	// Where no lock or rule speaks of a file that only seems edited, the files are
	// read once, on their way into the chest.
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	status, _, err := w.status(ctx, len(locks)+len(w.Manifest.Locks)+len(w.Manifest.Lines)+len(w.Manifest.Companions) == 0)
	if err != nil {
		return nil, err
	}
	chosen, along := w.choose(status.Changes, o.Paths)
	if err := w.checkPaths(ctx, o.Paths, chosen); err != nil {
		return nil, err
	}
	if len(chosen) == 0 {
		return &Committed{Commit: w.Base}, nil
	}
	if err := w.checkLocks(ctx, chosen); err != nil {
		return nil, err
	}
	ended, err := w.endLines(chosen)
	if err != nil {
		return nil, err
	}
	if len(ended) > 0 { // some may be as they were before
		if status, _, err = w.status(ctx, false); err != nil {
			return nil, err
		}
		chosen, along = w.choose(status.Changes, o.Paths)
	}
	c, err := w.record(ctx, chosen, o, ledger.ID{})
	if err == nil {
		c.Along, c.Ended = along, ended
	}
	return c, err
}

func (w *Workspace) checkMessage(o *CommitOptions, pending *Pending) error {
	if strings.TrimSpace(o.Message) == "" && pending != nil {
		o.Message = pending.Message
	}
	o.Message = strings.TrimSpace(o.Message)
	if o.Message == "" {
		return fault.New(fault.Usage, "Say with -m TEXT what changed and why; colleagues will read it.", "A commit needs a message.")
	}
	if pending != nil {
		return nil
	}
	return w.Manifest.Message.Check(o.Message, o.Item)
}

// checkPaths refuses a path that the project does not know at all.
func (w *Workspace) checkPaths(ctx context.Context, paths []string, chosen []Change) error {
	var files []state.File
	for _, p := range paths {
		if p == "." || slices.ContainsFunc(chosen, func(c Change) bool { return state.Under([]string{p}, c.Path) || c.From == p }) {
			continue
		}
		if files == nil {
			var err error
			if files, err = w.known(ctx); err != nil {
				return err
			}
		}
		if !anyUnder(files, p) {
			return fault.New(fault.Usage, "Check the spelling; oaken changes lists what can be committed.", "There is no %s in this project.", p)
		}
	}
	return nil
}

// record stores the chosen changes and publishes a commit of them on top of the base.
func (w *Workspace) record(ctx context.Context, chosen []Change, o CommitOptions, merged ledger.ID) (*Committed, error) {
	objects, err := w.lockedObjects(ctx, chosen)
	if err != nil {
		return nil, err
	}
	release, err := w.Chest.Hold(ctx, false)
	if err != nil {
		return nil, err
	}
	defer release()
	batch := w.Chest.Blobs.Begin()
	defer batch.Abandon()
	tree, chosen, err := w.store(ctx, batch, chosen)
	if err != nil {
		return nil, err
	}
	if len(chosen) == 0 && merged == (ledger.ID{}) {
		return &Committed{Commit: w.Base}, nil
	}
	warnings, err := w.hardNames(tree, chosen)
	if err != nil {
		return nil, chest.Explain(err)
	}
	warnings = append(warnings, w.lonely(chosen)...)
	released, err := w.lockedBy(ctx, chosen, objects)
	if err != nil {
		return nil, err
	}
	if o.KeepLocks {
		released = nil
	}
	commit, err := w.Chest.Publish(ctx, chest.Draft{Branch: w.Branch, Tip: w.Base.ID, Merged: merged, Tree: tree, Author: w.Person, Workspace: w.Name,
		Time: w.host.Now(), Message: o.Message, Item: o.Item, Release: released})
	if err != nil {
		return nil, err
	}
	w.Base = commit
	if err := w.save(); err != nil {
		return nil, err
	}
	_ = w.Chest.Gather(ctx) // what fails here is tried again by the next commit
	return &Committed{Commit: commit, Changes: chosen, Released: released, Merge: merged != ledger.ID{}, Warnings: warnings}, w.MarkReadOnly(ctx)
}

// store puts the contents of changed files into a batch, commits the batch, and
// gives the tree of the base with the changes in it, and the changes without
// those that turned out to be none.
func (w *Workspace) store(ctx context.Context, batch *blob.Batch, chosen []Change) (tree blob.Digest, real []Change, err error) {
	in := intake{w: w, batch: batch}
	for i, c := range chosen {
		if err := ctx.Err(); err != nil {
			return tree, nil, err
		}
		w.host.progress("storing files", i, len(chosen))
		if err := in.take(c); err != nil {
			return tree, nil, err
		}
	}
	if err := in.settle(0); err != nil {
		return tree, nil, err
	}
	real = in.real
	w.saveIndex()
	slices.SortFunc(real, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	tree, err = w.Chest.Amend(batch, w.Base.Tree, in.files)
	if err == nil {
		err = batch.Commit()
	}
	if unwritable(err) {
		err = chestUnwritable(err)
	}
	return tree, real, err
}

// intake takes changed files into a batch.
type intake struct {
	w      *Workspace
	batch  *blob.Batch
	coming []arrival    // files whose content is on its way
	files  []state.File // what is put into the tree; without a mode, what is taken out
	real   []Change     // without those that turned out to be none
}

// arrival is a file whose content is on its way into the chest.
type arrival struct {
	change  Change
	content *blob.Content
}

// underWay bounds the files whose content is on its way.
const underWay = 256

func (in *intake) take(c Change) error {
	if c.From != "" {
		in.files = append(in.files, state.File{Path: c.From})
	}
	if c.is.Mode == 0 || c.is.Mode == chest.Folder || in.batch.Has(c.is.Digest) {
		in.files = append(in.files, state.File{Path: c.Path, Mode: c.is.Mode, Size: c.is.Size, Digest: c.is.Digest})
		in.real = append(in.real, c)
		return nil
	}
	a, err := in.w.storeFile(in.batch, c)
	if err != nil {
		return err
	}
	if in.coming = append(in.coming, a); len(in.coming) < underWay {
		return nil
	}
	return in.settle(underWay / 2)
}

// settle waits for files until so many are left.
func (in *intake) settle(left int) error {
	n := max(len(in.coming)-left, 0)
	for _, a := range in.coming[:n] {
		f := a.change.is
		var err error
		if f.Digest, f.Size, err = a.content.Finish(); err != nil {
			return unstored(f.Path, err)
		}
		if seen, left := in.w.unread[f.Path]; left && seen.size == f.Size {
			in.w.learn(f.Path, seen, f.Digest)
		}
		if a.change.State != Edited || !a.change.was.Same(f) {
			a.change.is = f
			in.files, in.real = append(in.files, f), append(in.real, a.change)
		}
	}
	in.coming = append(in.coming[:0], in.coming[n:]...)
	return nil
}

func (w *Workspace) storeFile(batch *blob.Batch, change Change) (arrival, error) {
	f := change.is
	in, err := w.Work().Open(f.Path)
	if errors.Is(err, kind.ErrNoFile) || errors.Is(err, os.ErrNotExist) {
		return arrival{}, fault.New(fault.Failed, "Nothing was recorded; run oaken changes and commit again.", "%s went away while it was being committed.", f.Path)
	}
	if err != nil {
		return arrival{}, unstored(f.Path, err)
	}
	defer in.Close()
	c, err := batch.Start(in, w.seams(f, in))
	if err != nil {
		return arrival{}, unstored(f.Path, err)
	}
	return arrival{change, c}, nil
}

// leastSeamed is the size in bytes from which a file is worth asking for seams.
const leastSeamed = 2 * cut.Average

// seams asks the kind of a file where the things in it begin.
func (w *Workspace) seams(f state.File, in io.ReadCloser) []int64 {
	file, ok := in.(*os.File)
	if !ok || f.Size < leastSeamed {
		return nil
	}
	head := make([]byte, kind.HeadSize)
	n, _ := file.ReadAt(head, 0)
	if k, ok := w.Reader().KindOf(f.Path, head[:n]).(kind.Seamer); ok {
		return k.Seams(file, f.Size)
	}
	return nil
}

// unwritable reports whether an error says that a place can't be written.
func unwritable(err error) bool {
	return errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, os.ErrPermission)
}

func chestUnwritable(err error) error {
	return fault.New(fault.Unreachable, "Make room, or check the rights, and commit again; nothing was recorded.", "The chest can't be written: %w.", err)
}

func unstored(p string, err error) error {
	var at *os.PathError
	if unwritable(err) && errors.As(err, &at) && strings.Contains(filepath.Base(at.Path), "writing-") {
		return chestUnwritable(err)
	}
	return fault.New(fault.Failed, "Nothing was recorded. Check the disk and the rights, and commit again.", "%s can't be stored: %w.", p, err)
}

// lockedBy lists this workspace's locks that lie on changed paths or objects. A lock on
// a folder stays.
func (w *Workspace) lockedBy(ctx context.Context, chosen []Change, objects []string) ([]string, error) {
	locks, err := w.Chest.Locks(ctx)
	var out []string
	for _, l := range locks {
		if !w.holds(l) {
			continue
		}
		if IsObject(l.Address) && slices.ContainsFunc(objects, func(o string) bool { return chest.Covers(l.Address, o) }) {
			out = append(out, l.Address)
			continue
		}
		if slices.ContainsFunc(chosen, func(c Change) bool {
			return c.Path == l.Address || c.From == l.Address || w.Reader().Unit(c.Path) == l.Address
		}) {
			out = append(out, l.Address)
		}
	}
	return out, err
}
