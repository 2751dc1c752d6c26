package workspace

import (
	"context"
	"errors"
	"io"
	"os"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/content/cut"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// CommitOptions are the choices of Commit.
type CommitOptions struct {
	// Paths narrows the commit; none means everything that changed.
	Paths   []string
	Message string
	Item    string
	// KeepLocks leaves the locks of what is committed as they are.
	KeepLocks bool
	// Consent, when set, is asked before artifacts are committed that can't be read any more.
	Consent func([]Unreadable) bool
	// Hold keeps the commit here until the next sync.
	Hold bool

	settled bool // of a merge: people settled something in it
}

// Committed is what Commit has done.
type Committed struct {
	Commit ledger.Commit
	// Changes lists what was recorded; empty when there was nothing to.
	Changes []Change
	// Released lists the locks that ended.
	Released []string
	Merge    bool
	// Held counts the commits that are held here, this one among them; 0 when it was
	// published. HeldMessage is its message.
	Held        int
	HeldMessage string
	// Brought is what others had published first, and was brought in.
	Brought *Synced
	// Conflicts stand between the commit, which is held, and what others had published.
	Conflicts []element.Conflict
	// LeftOut lists contested changes, which stay out of commits.
	LeftOut []string
	// Along lists changed files that went along with chosen ones as companions.
	Along []string
	// Ended lists files whose lines were ended as the project's rules ask.
	Ended []string
	// Warnings are sentences about what may trouble others.
	Warnings []string
	// Beside lists what was captured and is not as the commit has it, each as the commit that
	// an environment holds.
	Beside []ledger.Commit
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
	if pending != nil && pending.Onto == "" && pending.Parent == "" {
		if err := w.reviewed(ctx, "commit"); err != nil {
			return nil, err
		}
	}
	if pending != nil {
		c, err := w.commitMerge(ctx, o, pending)
		if err == nil && len(c.Conflicts) == 0 {
			_ = w.Announce(ctx, nil, nil) // the next command tells it
		}
		return c, err
	}
	if err := errors.Join(w.reviewed(ctx, "commit"), w.underCapture(o.Paths)); err != nil {
		return nil, err
	}
	// Where no lock or rule speaks of a file that only seems edited, the files are
	// read once, on their way into the chest.
	locks, err := w.locks(ctx)
	if err != nil {
		return nil, err
	}
	status, _, err := w.status(ctx, w.locking.Guard(ctx, locks).Idle() && len(locks)+len(w.Manifest.Lines)+len(w.Manifest.Companions) == 0)
	if err != nil {
		return nil, err
	}
	chosen, along := w.choose(status.Changes, o.Paths)
	chosen, leftOut, err := w.locking.Settled(locks, chosen, o.Paths)
	if err != nil {
		return nil, err
	}
	if err := w.checkPaths(ctx, o.Paths, chosen); err != nil {
		return nil, err
	}
	if len(chosen) == 0 {
		return &Committed{Commit: w.Base, LeftOut: leftOut}, nil
	}
	broken, err := w.checkReadable(ctx, chosen, o)
	if err != nil {
		return nil, err
	}
	var advice []string
	if !w.Offline {
		if advice, err = w.locking.Check(ctx, locks, chosen); err != nil {
			return nil, err
		}
	}
	ended, err := w.endLines(ctx, chosen)
	if err != nil {
		return nil, err
	}
	if len(ended) > 0 { // some may be as they were before
		if status, _, err = w.status(ctx, false); err != nil {
			return nil, err
		}
		chosen, along = w.choose(status.Changes, o.Paths)
		if chosen, leftOut, err = w.locking.Settled(locks, chosen, o.Paths); err != nil {
			return nil, err
		}
	}
	c, err := w.record(ctx, chosen, o)
	if err == nil {
		c.Along, c.Ended, c.LeftOut = along, ended, leftOut
		c.Warnings = append(append(c.Warnings, advice...), broken...)
		w.announceRest(ctx, status.Changes, chosen)
		err = w.captured(ctx, c)
	}
	return c, err
}

// locks gives all locks; none while the chest is out of reach.
func (w *Workspace) locks(ctx context.Context) ([]ledger.Lock, error) {
	if w.Offline {
		return nil, nil
	}
	return w.Chest.Locks(ctx)
}

// reviewed refuses what goes by reviews alone.
func (w *Workspace) reviewed(ctx context.Context, what string) error {
	rules := w.Manifest.Review
	base := w.BaseState().(state.Commit)
	f, err := base.At(manifest.Name)
	if err != nil {
		return err
	}
	if now, err := w.disk.FileAt(manifest.Name); err != nil || !now.Same(f) { // what is committed counts, not an edit of it
		rules = manifest.ReviewRules{}
		if data, err := state.ReadFile(base, manifest.Name); err == nil {
			if m, err := w.ReadManifest(data); err == nil {
				rules = m.Review
			}
		}
	}
	only := slices.Contains(rules.Only, w.Branch)
	if !only && !w.Offline { // and as the first branch has it
		if first, err := w.FirstManifest(ctx); err == nil && first != nil {
			only = slices.Contains(first.Review.Only, w.Branch)
		}
	}
	if only {
		return fault.New(fault.Refused,
			"Work on a branch of your own (oaken branch NAME, oaken go NAME: your edits come along), then oaken review open.",
			"Branch %s takes work by reviews alone, so there is no %s on it.", w.Branch, what)
	}
	return nil
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

// CheckPaths refuses a path that the project does not know at all.
func (w *Workspace) CheckPaths(ctx context.Context, paths []string) error {
	return w.checkPaths(ctx, paths, nil)
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
			return fault.New(fault.Usage, "Check the spelling; oaken changes lists what can be committed.",
				"There is no %s in this project.", p).Among(p, state.NamesOf(files))
		}
	}
	return nil
}

// record makes a commit of the chosen changes: published on top of the base, or held when
// that was asked for or others are held already. When others have published first, it is
// held for a moment, and goes on top of theirs.
func (w *Workspace) record(ctx context.Context, chosen []Change, o CommitOptions) (*Committed, error) {
	if !o.Hold && !w.Offline && len(w.unsent.Commits) == 0 {
		c, err := w.recordNow(ctx, chosen, o, ledger.ID{})
		if !errors.Is(err, ledger.ErrMoved) {
			return c, err
		}
		if err := w.overtakenByItself(ctx); err != nil {
			return nil, err
		}
	}
	c, err := w.holdCommit(ctx, chosen, o)
	if err != nil || o.Hold || w.Offline || len(c.Changes) == 0 {
		return c, err
	}
	s, err := w.Publish(ctx)
	if err != nil {
		return nil, err
	}
	c.Brought, c.Conflicts, c.Released = s, s.Conflicts, s.Released
	if len(s.Conflicts) == 0 {
		c.Commit, c.Held = w.Base, 0
	}
	return c, nil
}

// overtakenByItself refuses to record what an earlier command of this workspace asked for, and was thought lost, which came
// about meanwhile: else it would be recorded twice.
func (w *Workspace) overtakenByItself(ctx context.Context) error {
	before := w.Base.ID
	if err := w.recoverCommit(ctx); err != nil || w.Base.ID == before {
		return err
	}
	return fault.New(fault.Refused, "See what is left with oaken changes, and commit that.",
		"What an earlier command had asked for was recorded meanwhile, as %s.", Label(w.Base))
}

// recordNow stores the chosen changes and publishes a commit of them on top of the base.
func (w *Workspace) recordNow(ctx context.Context, chosen []Change, o CommitOptions, merged ledger.ID) (c *Committed, err error) {
	err = w.Chest.Storing(ctx, func() error { c, err = w.recordOnce(ctx, chosen, o, merged); return err })
	return c, err
}

func (w *Workspace) recordOnce(ctx context.Context, chosen []Change, o CommitOptions, merged ledger.ID) (*Committed, error) {
	if err := w.register(ctx); err != nil {
		return nil, err
	}
	if merged == (ledger.ID{}) { // spare the work when it would be for nothing
		if b, err := w.Chest.Branch(ctx, w.Branch); err != nil || b.Tip != w.Base.ID {
			return nil, errors.Join(err, ledger.ErrMoved)
		}
	}
	objects, err := w.locking.Objects(ctx, chosen)
	if err != nil {
		return nil, err
	}
	batch := w.Chest.Contents.Begin(ctx)
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
	warnings = append(warnings, w.strayLinks(chosen)...)
	released, err := w.locking.Ending(ctx, chosen, objects)
	if err != nil {
		return nil, err
	}
	if o.KeepLocks {
		released = nil
	}
	commit, err := w.Chest.Publish(ctx, chest.Draft{Branch: w.Branch, Tip: w.Base.ID, Merged: merged, Tree: tree, Author: w.Person,
		Workspace: w.Name,
		Time:      w.host.Now(), Message: o.Message, Item: o.Item, Release: released, Settled: o.settled})
	if err != nil {
		return nil, err
	}
	if err := w.standOn(ctx, commit); err != nil {
		return nil, err
	}
	// what fails here is tried again by the next commit
	_ = w.Chest.Gather(ctx)
	if slices.ContainsFunc(chosen, func(c Change) bool { return c.Path == manifest.Name }) { // with it the rules for locks
		if err := w.MarkAll(ctx); err != nil {
			return nil, err
		}
	}
	return &Committed{Commit: commit, Changes: chosen, Released: released, Merge: merged != ledger.ID{}, Warnings: warnings},
		w.locking.Mark(ctx, disk.PathsOf(chosen))
}

// store puts the contents of changed files into a batch, commits the batch, and
// gives the tree of the base with the changes in it, and the changes without
// those that turned out to be none.
func (w *Workspace) store(ctx context.Context, batch *content.Batch, chosen []Change) (tree content.Digest, real []Change, err error) {
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
	w.disk.SaveIndex()
	slices.SortFunc(real, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	tree, err = w.Chest.Amend(batch, w.tree(), in.files)
	if err == nil {
		err = batch.Commit()
	}
	return tree, real, chest.Explain(err)
}

// intake takes changed files into a batch.
type intake struct {
	w      *Workspace
	batch  *content.Batch
	coming []incomingFile // files whose content is on its way
	files  []state.File   // what is put into the tree; without a mode, what is taken out
	real   []Change       // without those that turned out to be none
}

// incomingFile is a file whose content is on its way into the chest.
type incomingFile struct {
	change  Change
	content *content.Content
}

// underWay bounds the files whose content is on its way.
const underWay = 256

func (in *intake) take(c Change) error {
	if c.From != "" {
		in.files = append(in.files, state.File{Path: c.From})
	}
	if c.Is.Mode == 0 || c.Is.Mode == chest.Folder || in.batch.Has(c.Is.Digest) {
		in.files = append(in.files, state.File{Path: c.Path, Mode: c.Is.Mode, Size: c.Is.Size, Digest: c.Is.Digest})
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
		f := a.change.Is
		var err error
		if f.Digest, f.Size, err = a.content.Finish(); err != nil {
			return project.Unstored(f.Path, err)
		}
		if seen, left := in.w.disk.Unread(f.Path); left && seen.Size == f.Size {
			in.w.disk.Learn(f.Path, seen, f.Digest)
		}
		if a.change.State != Edited || !a.change.Was.Same(f) {
			a.change.Is = f
			in.files, in.real = append(in.files, f), append(in.real, a.change)
		}
	}
	in.coming = append(in.coming[:0], in.coming[n:]...)
	return nil
}

func (w *Workspace) storeFile(batch *content.Batch, change Change) (incomingFile, error) {
	f := change.Is
	in, err := w.Work().Open(f.Path)
	if errors.Is(err, kind.ErrNoFile) || errors.Is(err, os.ErrNotExist) {
		return incomingFile{}, fault.New(fault.Failed, "Nothing was recorded; run oaken changes and commit again.",
			"%s went away while it was being committed.", f.Path)
	}
	if err != nil {
		return incomingFile{}, project.Unstored(f.Path, err)
	}
	defer in.Close()
	c, err := batch.Start(in, w.seams(f, in))
	if err != nil {
		return incomingFile{}, project.Unstored(f.Path, err)
	}
	return incomingFile{change, c}, nil
}

// leastSeamed is the size in bytes from which a file is worth asking for seams.
const leastSeamed = 2 * cut.Average

// seams asks the kind of a file where the things in it begin.
func (w *Workspace) seams(f state.File, in io.ReadCloser) []int64 {
	file, ok := in.(*os.File)
	if !ok || f.Size < leastSeamed {
		return nil
	}
	begin := make([]byte, kind.HeadSize)
	n, _ := file.ReadAt(begin, 0)
	if k, ok := w.Reader().KindOf(f.Path, begin[:n]).(kind.Seamer); ok {
		return k.Seams(file, f.Size)
	}
	return nil
}
