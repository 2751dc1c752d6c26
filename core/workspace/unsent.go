package workspace

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/workspace/disk"
	"oakenchest/core/workspace/unsent"
)

// Held is a held commit, for people.
type Held struct {
	Time    time.Time
	Message string
	Files   int
}

// HeldCommits lists the held commits, the oldest first.
func (w *Workspace) HeldCommits() []Held {
	var out []Held
	for _, h := range w.unsent.Commits {
		out = append(out, Held{h.Time, h.Message, len(h.Paths)})
	}
	return out
}

// tree gives the tree that changes are counted against.
func (w *Workspace) tree() content.Digest { return w.unsent.Over(w.Base.Tree) }

// loadUnsent reads the list of unsent commits.
func (w *Workspace) loadUnsent(ctx context.Context) error {
	base, err := w.unsent.Load()
	if err != nil || len(w.unsent.Commits) == 0 || base == optionalID(w.Base.ID) || w.Offline {
		return err
	}
	id, err := ledger.ParseID(base) // a command was killed before it could note the new base elsewhere
	if err == nil {
		w.Base, err = w.Chest.Commit(ctx, id)
	}
	return err
}

// goOffline opens the workspace without its chest, when enough is known of the base.
func (w *Workspace) goOffline(location string, away error) error {
	if w.rec.Chest == "" || w.rec.Base == "" || w.rec.BaseTree == "" {
		return away
	}
	tree, err := disk.FromHex(w.rec.BaseTree)
	if err != nil {
		return away
	}
	if !w.unsent.HasContents() {
		return away
	}
	w.Offline = true
	kept, err := w.unsent.Contents()
	if err != nil {
		return err
	}
	if !kept.Has(tree) {
		return errors.Join(away, kept.Close())
	}
	w.Chest = chest.Away(location, kept)
	return nil
}

func (w *Workspace) saveUnsent() error { return w.unsent.Save(w.Base.ID) }

// keepFolders keeps the folders of the base here, for when the chest is out of reach.
func (w *Workspace) keepFolders(ctx context.Context) {
	if w.rec.Chest != "" && w.Base.ID != (ledger.ID{}) {
		w.unsent.KeepFolders(ctx, w.Base.Tree)
	}
}

// standOn notes that the workspace's files are those of a commit: nothing is held.
func (w *Workspace) standOn(ctx context.Context, c ledger.Commit) error {
	w.Base, w.unsent.Commits = c, nil
	if err := w.saveUnsent(); err != nil {
		return err
	}
	if err := w.save(); err != nil {
		return err
	}
	w.keepFolders(ctx)
	return nil
}

// holdCommit records changes here, on top of what is held.
func (w *Workspace) holdCommit(ctx context.Context, chosen []Change, o CommitOptions) (*Committed, error) {
	to, err := w.unsent.Contents()
	if err != nil {
		return nil, err
	}
	batch := to.Begin(ctx)
	defer batch.Abandon()
	tree, chosen, err := w.store(ctx, batch, chosen)
	if err != nil {
		return nil, err
	}
	if len(chosen) == 0 {
		return &Committed{Commit: w.Base}, nil
	}
	h := unsent.New(tree, w.Person, w.host.Now())
	h.Message, h.Item, h.KeepLocks = o.Message, o.Item, o.KeepLocks
	for _, c := range chosen {
		h.Paths = append(h.Paths, c.Path)
		if c.From != "" {
			h.Paths = append(h.Paths, c.From)
		}
	}
	w.unsent.Commits = append(w.unsent.Commits, h)
	return &Committed{Commit: w.Base, Changes: chosen, Held: len(w.unsent.Commits), HeldMessage: o.Message}, w.saveUnsent()
}

// layOpen begins the merge that lays open what stands between held commits and newer ones.
func (w *Workspace) layOpen(ctx context.Context, p *unsent.Publication) (*Synced, error) {
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	if len(s.Changes) > 0 {
		return nil, fault.New(fault.Conflict,
			"It is unsent, nothing is lost. Commit what else is edited, or set it aside with oaken park NAME, then run oaken sync to see "+
				"the conflicts.",
			"What you committed can't be combined with what is newer, at %s%s.", p.First, more(p.Conflicts-1))
	}
	var messages []string
	for _, h := range w.unsent.Commits {
		messages = append(messages, h.Message)
	}
	pending := &Pending{What: "sync of " + w.Branch, Message: strings.Join(messages, "\n\n"), Base: disk.Hex(w.Base.Tree),
		Mine: disk.Hex(w.tree()), Theirs: disk.Hex(p.Tip.Tree), Onto: p.Tip.ID.String()}
	r, err := w.begin(ctx, pending)
	if err != nil {
		return nil, err
	}
	out := &Synced{Conflicts: r.Conflicts, Combined: r.Artifacts}
	if r.Committed != nil { // one by one they clashed, as a whole they do not
		out.Published = append(out.Published, r.Committed.Commit)
	}
	return out, nil
}

// commitOnto completes a merge of held commits with newer ones: what it came to takes the
// place of the held commits, on top of the newer ones, and is published.
func (w *Workspace) commitOnto(ctx context.Context, o CommitOptions, p *Pending, changes []Change) (*Committed, error) {
	id, err := ledger.ParseID(p.Onto)
	if err != nil {
		return nil, err
	}
	onto, err := w.Chest.Commit(ctx, id)
	if err != nil {
		return nil, err
	}
	to, err := w.unsent.Contents()
	if err != nil {
		return nil, err
	}
	batch := to.Begin(ctx)
	defer batch.Abandon()
	tree, changes, err := w.store(ctx, batch, changes)
	if err != nil {
		return nil, err
	}
	h := unsent.New(tree, w.Person, w.host.Now())
	h.Message, h.Item, h.KeepLocks = o.Message, o.Item, o.KeepLocks
	for _, old := range w.unsent.Commits {
		h.Item = max(h.Item, old.Item)
		h.KeepLocks = h.KeepLocks || old.KeepLocks
	}
	pairs, err := w.Chest.Diff(onto.Tree, tree)
	if err != nil {
		return nil, chest.Explain(err)
	}
	for _, d := range pairs {
		h.Paths = append(h.Paths, d.Path)
	}
	w.Base, w.unsent.Commits = onto, []unsent.Commit{h}
	if err := w.saveUnsent(); err != nil {
		return nil, err
	}
	if err := errors.Join(os.Remove(w.merging.File()), w.save()); err != nil {
		return nil, err
	}
	s, err := w.Publish(ctx)
	if err != nil {
		return nil, err
	}
	c := &Committed{Commit: w.Base, Changes: changes, Merge: true, Conflicts: s.Conflicts, Released: s.Released}
	return c, nil
}

// LetGo takes the held commits back: their work shows as changes again. It gives how many
// there were.
func (w *Workspace) LetGo() (int, error) {
	p, err := w.Pending()
	if err != nil {
		return 0, err
	}
	if p != nil {
		return 0, fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.",
			"%s is under way.", p.What)
	}
	n := len(w.unsent.Commits)
	w.unsent.Commits = nil
	return n, w.saveUnsent()
}
