package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
)

// A held commit is recorded here and not published yet: because it was asked for, because
// the chest was out of reach, or because what others published first can't be combined
// with it. Held commits stand on the base, one on the other; their contents lie in
// .oaken/held until they are published.
type heldCommit struct {
	// Tree, in hexadecimal, is the whole state.
	Tree    string    `json:"tree"`
	Author  string    `json:"author"`
	Time    time.Time `json:"time"`
	Message string    `json:"message"`
	Item    string    `json:"item,omitempty"`
	// Paths lists what it changes; their locks end when it is published, unless
	// KeepLocks.
	Paths     []string `json:"paths"`
	KeepLocks bool     `json:"keepLocks,omitempty"`
}

// Held is a held commit, for people.
type Held struct {
	Time    time.Time
	Message string
	Files   int
}

// HeldCommits lists the held commits, the oldest first.
func (w *Workspace) HeldCommits() []Held {
	var out []Held
	for _, h := range w.held {
		out = append(out, Held{h.Time, h.Message, len(h.Paths)})
	}
	return out
}

func (h heldCommit) tree() content.Digest {
	d, _ := fromHex(h.Tree) // checked when it was read
	return d
}

// tree gives the tree that changes are counted against.
func (w *Workspace) tree() content.Digest {
	if n := len(w.held); n > 0 {
		return w.held[n-1].tree()
	}
	return w.Base.Tree
}

func (w *Workspace) pocketFolder() string { return filepath.Join(w.Root, Folder, "held") }

// needPocket opens the store of what is held, which is made when it is missing.
func (w *Workspace) needPocket() (*content.Store, error) {
	if w.pocket != nil {
		return w.pocket, nil
	}
	var err error
	if w.pocket, err = content.Open(w.pocketFolder()); err != nil {
		return nil, fault.New(fault.Unreachable, "Check that you may write there, and that the disk has room.", "The workspace can't be written: %w.", err)
	}
	if !w.Offline {
		w.Chest.Contents.Beside(w.pocket)
	}
	return w.pocket, nil
}

// loadHeld reads the list of held commits.
func (w *Workspace) loadHeld(ctx context.Context) error {
	w.held = nil
	var r heldRecord
	err := w.readSealed("held.json", &r)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	w.held = r.Commits
	for _, h := range w.held {
		if _, bad := fromHex(h.Tree); err == nil {
			err = bad
		}
	}
	if err != nil {
		return fault.New(fault.Damaged, "Bring it back from a copy, or remove it: oaken changes then shows the work of those commits as changes.", "The list of commits that are held here, .oaken/held.json, can't be read: %w.", err)
	}
	if _, err = w.needPocket(); err != nil || r.Base == optionalID(w.Base.ID) || w.Offline {
		return err
	}
	id, err := ledger.ParseID(r.Base) // a command was killed before it could note the new base elsewhere
	if err == nil {
		w.Base, err = w.Chest.Commit(ctx, id)
	}
	return err
}

// heldRecord is held.json.
type heldRecord struct {
	// Base is the commit that the first of them stands on; empty for none.
	Base    string       `json:"base"`
	Commits []heldCommit `json:"commits"`
}

func (w *Workspace) saveHeld() error {
	if len(w.held) > 0 {
		return w.writeSealed("held.json", heldRecord{optionalID(w.Base.ID), w.held})
	}
	err := os.Remove(filepath.Join(w.Root, Folder, "held.json"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// goOffline opens the workspace without its chest, when enough is known of the base.
func (w *Workspace) goOffline(location string, away error) error {
	if w.rec.Chest == "" || w.rec.Base == "" || w.rec.BaseTree == "" {
		return away
	}
	tree, err := fromHex(w.rec.BaseTree)
	if err != nil {
		return away
	}
	if _, err := os.Stat(w.pocketFolder()); err != nil {
		return away
	}
	w.Offline = true
	if _, err := w.needPocket(); err != nil {
		return err
	}
	if !w.pocket.Has(tree) {
		return errors.Join(away, w.pocket.Close())
	}
	w.Chest = chest.Away(location, w.pocket)
	return nil
}

// standOn notes that the workspace's files are those of a commit: nothing is held.
func (w *Workspace) standOn(ctx context.Context, c ledger.Commit) error {
	w.Base, w.held = c, nil
	if err := w.saveHeld(); err != nil {
		return err
	}
	if err := w.save(); err != nil {
		return err
	}
	w.keepFolders(ctx)
	return nil
}

// largestPocket is the size in bytes above which what is held no longer is thrown away.
const largestPocket = 64 << 20

// keepFolders keeps a copy of the base's folders here, so that changes can be told and
// commits held while the chest is out of reach. That it fails harms nothing else.
func (w *Workspace) keepFolders(ctx context.Context) {
	if w.rec.Chest == "" || w.Base.ID == (ledger.ID{}) {
		return
	}
	if folderSize(w.pocketFolder()) > largestPocket && w.pocket != nil {
		w.Chest.Contents.Beside(nil)
		_ = w.pocket.Close()
		w.pocket = nil
		_ = os.RemoveAll(w.pocketFolder())
	}
	to, err := w.needPocket()
	if err != nil {
		return
	}
	batch := to.Begin(ctx)
	defer batch.Abandon()
	if err := w.Chest.CopyFolders(batch, w.Base.Tree); err != nil {
		return
	}
	if batch.Commit() == nil {
		_, _ = to.Gather(ctx)
	}
}

func folderSize(dir string) (n int64) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			n += info.Size()
		}
	}
	return n
}

// holdCommit records changes here, on top of what is held.
func (w *Workspace) holdCommit(ctx context.Context, chosen []Change, o CommitOptions) (*Committed, error) {
	to, err := w.needPocket()
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
	h := heldCommit{Tree: hexOf(tree), Author: w.Person, Time: w.host.Now().UTC().Truncate(time.Millisecond), Message: o.Message, Item: o.Item, KeepLocks: o.KeepLocks}
	for _, c := range chosen {
		h.Paths = append(h.Paths, c.Path)
		if c.From != "" {
			h.Paths = append(h.Paths, c.From)
		}
	}
	w.held = append(w.held, h)
	return &Committed{Commit: w.Base, Changes: chosen, Held: len(w.held), HeldMessage: o.Message}, w.saveHeld()
}

// draft is a held commit as it is to be published.
type draft struct {
	held heldCommit
	tree content.Digest
}

// publication is how the held commits go on top of a branch's tip.
type publication struct {
	tip    ledger.Commit
	drafts []draft
	// final is the tree that the workspace comes to.
	final     content.Digest
	artifacts []state.Combined
	// conflicts says why they can't.
	conflicts int
	first     string
}

// plan puts the held commits on top of a tip: as they are when it is the base, else each
// merged with what others have published. What was published already, by a command that
// was killed, is left out. Contents go into the chest.
func (w *Workspace) plan(ctx context.Context, tip ledger.Commit) (*publication, error) {
	p := &publication{tip: tip, final: tip.Tree}
	before := w.Base.Tree
	held := w.held
	done, err := w.published(ctx, tip)
	if err != nil {
		return nil, err
	}
	for _, h := range held {
		if done[h.key()] {
			before, held = h.tree(), held[1:]
			continue
		}
		break
	}
	for _, h := range held {
		files, err := w.onTop(ctx, p, before, h)
		if err != nil || p.conflicts > 0 {
			return p, err
		}
		tree, err := w.AmendNow(ctx, p.final, files) // the next one is merged with it
		if err != nil {
			return nil, err
		}
		// Where others did the same, it is a commit all the same: nobody's work goes unsaid.
		p.drafts = append(p.drafts, draft{h, tree})
		before, p.final = h.tree(), tree
	}
	return p, nil
}

// onTop gives what one held commit changes on top of what the plan has come to.
func (w *Workspace) onTop(ctx context.Context, p *publication, before content.Digest, h heldCommit) ([]project.Incoming, error) {
	var out []project.Incoming
	if before == p.final {
		pairs, err := w.Chest.Diff(before, h.tree())
		for _, d := range pairs {
			f := d.Is
			f.Path = d.Path
			out = append(out, project.Incoming{File: f})
		}
		return out, chest.Explain(err)
	}
	at := func(d content.Digest, name string) state.State {
		return state.Commit{Chest: w.Chest, Tree: d, Name: name}
	}
	m, err := w.Reader().Merge(ctx, at(before, "base"), at(p.final, "newer"), at(h.tree(), "held"), nil)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		p.conflicts, p.first = len(m.Conflicts), m.Conflicts[0].Address.String()
		return nil, nil
	}
	p.artifacts = state.AlsoCombined(p.artifacts, m.Artifacts)
	return project.IncomingOf(m.Edits), nil
}

func (h heldCommit) key() string {
	return h.Author + "\x00" + h.Message + "\x00" + h.Time.UTC().Truncate(time.Millisecond).Format(time.RFC3339Nano)
}

// published tells which held commits are in the chest already: a command was killed
// between publishing them and noting so.
func (w *Workspace) published(ctx context.Context, tip ledger.Commit) (map[string]bool, error) {
	out := map[string]bool{}
	if tip.ID == w.Base.ID {
		return out, nil
	}
	err := w.Chest.Ancestors(ctx, tip.ID, func(c ledger.Commit) (bool, error) {
		if c.Workspace == w.Name {
			out[heldCommit{Author: c.Author, Message: c.Message, Time: c.Time}.key()] = true
		}
		return c.Generation > w.Base.Generation, nil
	})
	return out, err
}

// Publish publishes the held commits, with what others have published brought in first.
// Where that leaves conflicts, they are laid open as a merge that is under way, and
// nothing is published.
func (w *Workspace) Publish(ctx context.Context) (*Synced, error) {
	if w.Offline {
		return nil, chest.Explain(ledger.ErrAway)
	}
	const patience = 50 // others may publish faster than we, but not for ever
	for range patience {
		out, err := w.publishOnce(ctx)
		if !errors.Is(err, ledger.ErrMoved) {
			return out, err
		}
	}
	return nil, fault.New(fault.Refused, "Run oaken sync again; what you committed is held here.", "Others publish to %s faster than this workspace can follow.", w.Branch)
}

func (w *Workspace) publishOnce(ctx context.Context) (s *Synced, err error) {
	err = w.Chest.Storing(ctx, func() error { s, err = w.publishHeld(ctx); return err })
	return s, err
}

func (w *Workspace) publishHeld(ctx context.Context) (*Synced, error) {
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	var tip ledger.Commit
	if b.Tip != (ledger.ID{}) {
		if tip, err = w.Chest.Commit(ctx, b.Tip); err != nil {
			return nil, err
		}
	}
	p, err := w.plan(ctx, tip)
	if err != nil {
		return nil, err
	}
	out := &Synced{Combined: p.artifacts}
	if out.Commits, err = w.newer(ctx, tip); err != nil {
		return nil, err
	}
	if p.conflicts > 0 {
		return w.layOpen(ctx, p)
	}
	released, err := w.lockedByHeld(ctx, p)
	if err != nil {
		return nil, err
	}
	keep, edited, staged, err := w.bringEdits(ctx, p.final)
	if err != nil {
		return nil, err
	}
	out.Combined = state.AlsoCombined(out.Combined, edited)
	drafts := make([]chest.Draft, len(p.drafts))
	for i, d := range p.drafts {
		drafts[i] = chest.Draft{Branch: w.Branch, Tip: tip.ID, Tree: d.tree, Author: d.held.Author, Workspace: w.Name,
			Time: d.held.Time, Message: d.held.Message, Item: d.held.Item, Release: released[i]}
		out.Released = append(out.Released, released[i]...)
	}
	if out.Published, err = w.Chest.PublishAll(ctx, drafts); err != nil {
		return nil, err
	}
	last := tip
	if n := len(out.Published); n > 0 {
		last = out.Published[n-1]
	}
	_ = w.Chest.Gather(ctx)
	if out.Transition, err = w.switchFrom(ctx, journal{From: hexOf(w.tree()), Branch: w.Branch, Commit: optionalID(last.ID), Keep: keep, Staged: staged}); err != nil {
		return nil, err
	}
	var touched []string
	for _, d := range p.drafts {
		touched = append(touched, d.held.Paths...)
	}
	return out, w.mark(ctx, touched)
}

// newer counts the commits of a tip that the base does not stand on.
func (w *Workspace) newer(ctx context.Context, tip ledger.Commit) (n int, err error) {
	if tip.ID == (ledger.ID{}) || tip.ID == w.Base.ID {
		return 0, nil
	}
	err = w.Chest.Ancestors(ctx, tip.ID, func(c ledger.Commit) (bool, error) {
		if c.ID == w.Base.ID || c.Generation <= w.Base.Generation {
			return false, nil
		}
		n++
		return true, nil
	})
	return n, err
}

// bringEdits makes room for a state that comes in: where edits that are not committed
// meet it, the two are combined, and staged. It gives the paths that were, and the
// artifacts.
func (w *Workspace) bringEdits(ctx context.Context, final content.Digest) ([]string, []state.Combined, []stagedFile, error) {
	s, _, err := w.status(ctx, false)
	if err != nil || len(s.Changes) == 0 {
		return nil, nil, nil, err
	}
	target := ledger.Commit{Tree: final, Branch: w.Branch}
	both, err := w.editedOnBoth(ctx, s.Changes, target)
	if err != nil || len(both) == 0 {
		return nil, nil, nil, err
	}
	artifacts, staged, err := w.combine(ctx, target, both)
	return both, artifacts, staged, err
}

// lockedByHeld refuses to publish what others have locked since, and gives the locks that
// end with each draft.
func (w *Workspace) lockedByHeld(ctx context.Context, p *publication) ([][]string, error) {
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return nil, err
	}
	out := make([][]string, len(p.drafts))
	set := chest.NewLockSet(locks)
	var mine []ledger.Lock
	for _, l := range locks {
		if w.holds(l) {
			mine = append(mine, l)
		}
	}
	for i, d := range p.drafts {
		for _, path := range d.held.Paths {
			for _, l := range append(set.Over(path), mine...) {
				switch {
				case !w.holds(l):
					return nil, fault.New(fault.Refused, "It is held here until then. Ask "+l.Holder+", then run oaken sync.", "%s is locked by %s.", path, chest.HolderText(l))
				case w.holds(l) && !d.held.KeepLocks && !slices.Contains(out[i], l.Address) && (l.Address == path || strings.HasPrefix(l.Address, path+"::") || w.Reader().Unit(path) == l.Address):
					out[i] = append(out[i], l.Address)
				}
			}
		}
	}
	return out, nil
}

// layOpen begins the merge that lays open what stands between held commits and newer ones.
func (w *Workspace) layOpen(ctx context.Context, p *publication) (*Synced, error) {
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	if len(s.Changes) > 0 {
		return nil, fault.New(fault.Conflict, "It is held here, nothing is lost. Commit what else is edited, or set it aside with oaken park NAME, then run oaken sync to see the conflicts.",
			"What you committed can't be combined with what is newer, at %s%s.", p.first, more(p.conflicts-1))
	}
	var messages []string
	for _, h := range w.held {
		messages = append(messages, h.Message)
	}
	pending := &Pending{What: "sync of " + w.Branch, Message: strings.Join(messages, "\n\n"), Base: hexOf(w.Base.Tree), Mine: hexOf(w.tree()), Theirs: hexOf(p.tip.Tree), Onto: p.tip.ID.String()}
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
	to, err := w.needPocket()
	if err != nil {
		return nil, err
	}
	batch := to.Begin(ctx)
	defer batch.Abandon()
	tree, changes, err := w.store(ctx, batch, changes)
	if err != nil {
		return nil, err
	}
	h := heldCommit{Tree: hexOf(tree), Author: w.Person, Time: w.host.Now().UTC().Truncate(time.Millisecond), Message: o.Message, Item: o.Item, KeepLocks: o.KeepLocks}
	for _, old := range w.held {
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
	w.Base, w.held = onto, []heldCommit{h}
	if err := w.saveHeld(); err != nil {
		return nil, err
	}
	if err := errors.Join(os.Remove(w.pendingFile()), w.save()); err != nil {
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
		return 0, fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.", "%s is under way.", p.What)
	}
	n := len(w.held)
	w.held = nil
	return n, w.saveHeld()
}
