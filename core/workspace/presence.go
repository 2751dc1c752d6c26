package workspace

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/overlap"
	"oakenchest/core/state"
)

// markOf tells this workspace, and who works in it, from others of the name.
func (w *Workspace) markOf() string {
	if w.Person == w.rec.Person {
		return w.rec.Mark
	}
	return w.rec.Mark + "/" + w.Person
}

// presence is what this workspace tells of itself.
func (w *Workspace) presence() ledger.Workspace {
	return ledger.Workspace{Name: w.Name, Mark: w.markOf(), Person: w.Person, Machine: w.host.Machine, Folder: w.Root, Branch: w.Branch, Base: w.Base.ID, Held: len(w.held), Seen: w.host.Now()}
}

// register makes sure that the chest knows this workspace, under a name that no other one
// has.
func (w *Workspace) register(ctx context.Context) error {
	if w.registered {
		return nil
	}
	known, err := w.Chest.Workspace(ctx, w.Name)
	if err != nil {
		return err
	}
	if w.rec.Mark == "" || w.copied(known) {
		var random [8]byte
		if _, err := rand.Read(random[:]); err != nil {
			return err
		}
		w.rec.Mark = hex.EncodeToString(random[:])
		if err := w.save(); err != nil {
			return err
		}
	}
	if known.Mark != w.markOf() {
		name, err := w.Chest.Register(ctx, w.presence())
		if err != nil {
			return err
		}
		w.Name = name
		w.Chest.Actor = w.actor()
		if w.Person == w.rec.Person && w.rec.Name != name {
			w.rec.Name = name
			if err := w.save(); err != nil {
				return err
			}
		}
	}
	w.registered = true
	if w.shared(ctx) && !w.rec.Guarded && w.Base.ID != (ledger.ID{}) {
		w.rec.Guarded = true
		if err := w.save(); err != nil {
			return err
		}
		files, err := w.BaseState().Files(ctx)
		if err != nil {
			return err
		}
		return w.mark(ctx, pathsOfFiles(files))
	}
	return nil
}

// copied reports whether this workspace is a copy of another one's folder, which is still
// there: the two must not pass for one.
func (w *Workspace) copied(known ledger.Workspace) bool {
	if known.Mark != w.markOf() || known.Folder == w.Root || known.Machine != w.host.Machine {
		return false
	}
	other := &Workspace{Root: known.Folder}
	return other.loadRecord() == nil && other.rec.Mark == w.rec.Mark
}

// Accept notes that a person works in this workspace besides the one who has it.
func (w *Workspace) Accept() error {
	if !w.Stranger {
		return nil
	}
	w.rec.People, w.Stranger = append(w.rec.People, w.Person), false
	return w.save()
}

// Owner is the person whose workspace it is.
func (w *Workspace) Owner() string { return w.rec.Person }

// Notices gives what others left for this workspace; read takes it away.
func (w *Workspace) Notices(ctx context.Context) (list []ledger.Notice, read func() error, err error) {
	if w.Offline {
		return nil, func() error { return nil }, nil
	}
	return w.Chest.Notices(ctx, w.Name)
}

// mostTold bounds how many artifacts are told element by element at a time.
const mostTold = 100

// largestTold bounds the size in bytes of an artifact that is.
const largestTold = 32 << 20

// Announce tells the chest what is edited here. now lists the files of the workspace.
// That it fails harms nothing else: the next command tells it.
func (w *Workspace) Announce(ctx context.Context, changes []Change, now []state.File) error {
	if w.Offline || w.Stranger { // who only looks is nobody here
		return nil
	}
	if err := w.register(ctx); err != nil {
		return err
	}
	before, err := w.Chest.EditsOf(ctx, w.Name)
	if err != nil {
		return err
	}
	p := chest.Presence{Workspace: w.presence()}
	var unknown []int
	edits, err := w.unpublished(changes)
	if err != nil {
		return err
	}
	told := make(map[string]ledger.Edit, len(before))
	for _, b := range before {
		told[b.Path] = b
	}
	for _, e := range edits {
		if b, ok := told[e.Path]; ok && b.Content == e.Content && b.State == e.State {
			contested := e.Contested
			e = b
			e.Contested = contested
		} else {
			unknown = append(unknown, len(p.Edits))
		}
		p.Edits = append(p.Edits, e)
	}
	if w.learnt {
		w.saveIndex()
		w.learnt = false
	}
	var work state.State = w.Work()
	if now != nil {
		work = state.Listed(work, now)
	}
	for n, i := range unknown {
		if n == mostTold {
			break
		}
		from := w.Work()
		if _, folder := w.Manifest.Declared(p.Edits[i].Path); folder {
			from = work
		}
		w.tell(ctx, from, &p.Edits[i], changes)
	}
	return w.Chest.Announce(ctx, p)
}

// heldState is the state of an edit that is committed and held here.
const heldState = "held"

// unpublished lists what this workspace has otherwise than its base: what is held, and what
// is edited.
func (w *Workspace) unpublished(changes []Change) ([]ledger.Edit, error) {
	out := w.editsOf(changes)
	if len(w.held) == 0 {
		return out, nil
	}
	pairs, err := w.Chest.Diff(w.Base.Tree, w.tree())
	if err != nil {
		return nil, chest.Explain(err)
	}
	var held []Change
	edited := make(map[string]bool, len(out))
	for _, e := range out {
		edited[e.Path] = true
	}
	for _, p := range pairs {
		if !edited[w.Reader().Unit(p.Path)] {
			held = append(held, Change{Path: p.Path, State: heldState, was: p.Was, is: p.Is})
		}
	}
	return append(out, w.editsOf(held)...), nil
}

// editsOf gathers changes by artifact.
func (w *Workspace) editsOf(changes []Change) []ledger.Edit {
	var out []ledger.Edit
	at := map[string]int{}
	r := w.Reader()
	for _, c := range changes {
		u := r.Unit(c.Path)
		digest := w.contentOf(c)
		if i, ok := at[u]; ok {
			out[i].Content, out[i].State = hexOf(element.DigestOf([]byte(out[i].Content+"\n"+c.Path+" "+digest))), string(Edited)
			continue
		}
		at[u] = len(out)
		e := ledger.Edit{Workspace: w.Name, Path: u, State: string(c.State), Kind: c.Kind, Content: digest, Contested: c.State == Contested || w.waived(c.Path), Since: w.host.Now()}
		if u != c.Path {
			e.Content = hexOf(element.DigestOf([]byte(c.Path + " " + digest)))
		}
		if c.State == Contested {
			e.State = string(Edited)
		}
		out = append(out, e)
	}
	return out
}

// contentOf names what a changed file holds now: by its digest, or, of a large one that
// nobody has read yet, by its size and time.
func (w *Workspace) contentOf(c Change) string {
	seen, left := w.unread[c.Path]
	switch {
	case c.is.Mode == 0:
		return ""
	case c.is.Digest != (element.Digest{}) || !left:
		return hexOf(c.is.Digest)
	case seen.size > largestTold:
		return fmt.Sprintf("%d bytes of %d", seen.size, seen.changed)
	}
	d, _, err := digestFile(w.local(c.Path))
	if err != nil {
		return ""
	}
	w.learn(c.Path, seen, d)
	w.learnt = true
	return hexOf(d)
}

// tell adds what an edit changes, element by element.
func (w *Workspace) tell(ctx context.Context, work state.State, e *ledger.Edit, changes []Change) {
	for _, c := range changes {
		if c.is.Size > largestTold && w.Reader().Unit(c.Path) == e.Path {
			return
		}
	}
	r := w.Reader()
	a, err := state.Near(ctx, w.CommitState(w.Base, Label(w.Base)), e.Path)
	if err != nil {
		return
	}
	if f, single := work.(state.Finder); single { // without a list of everything else
		if work, err = state.Near(ctx, f, e.Path); err != nil {
			return
		}
	}
	diffs, err := r.Compare(ctx, a, work, []string{e.Path})
	if err != nil {
		return
	}
	var all state.Difference
	for _, d := range diffs {
		if d.Path == e.Path {
			all, e.Kind = d, d.Kind
		}
	}
	if k, ok := r.Kinds.Named(e.Kind); ok {
		_, e.Merges = k.(kind.Writer)
	} else if k, ok := r.FolderKind(e.Kind); ok {
		_, e.Merges = k.(kind.Writer)
	}
	e.Told = overlap.Encode(overlap.Tell(all))
}

// announceRest tells what is still edited after a commit.
func (w *Workspace) announceRest(ctx context.Context, all []Change, c *Committed) {
	done := make(map[string]bool, len(c.Changes))
	for _, x := range c.Changes {
		done[x.Path] = true
	}
	rest := slices.DeleteFunc(slices.Clone(all), func(x Change) bool { return done[x.Path] })
	_ = w.Announce(ctx, rest, nil)
}

// Warnings tells who else has changed some artifacts, and whether it would merge.
func (w *Workspace) Warnings(ctx context.Context, paths []string, changes []Change) ([]overlap.Overlap, error) {
	if w.Offline || len(paths) == 0 {
		return nil, nil
	}
	h := overlap.Here{Workspace: w.Name, Branch: w.Branch, Base: w.Base, Work: w.Work(), Edited: map[string]bool{}}
	if len(w.held) > 0 { // what is held is work of this side
		pairs, err := w.Chest.Diff(w.Base.Tree, w.tree())
		if err != nil {
			return nil, chest.Explain(err)
		}
		for _, p := range pairs {
			h.Edited[w.Reader().Unit(p.Path)] = true
		}
	}
	r := w.Reader()
	for _, c := range changes {
		h.Edited[r.Unit(c.Path)] = true
	}
	h.File = func(p string) chest.File {
		f, err := h.Work.(state.Finder).At(p)
		if err != nil {
			return chest.File{}
		}
		return f
	}
	var units []string
	for _, p := range paths {
		p, _, _ = strings.Cut(p, "::")
		if u := r.Unit(p); !slices.Contains(units, u) {
			units = append(units, u)
		}
	}
	return (&overlap.Finder{Chest: w.Chest, Reader: r}).Around(ctx, h, units)
}

// Overlaps lists what several branches and workspaces are changing at once.
func (w *Workspace) Overlaps(ctx context.Context, paths []string, look int) ([]overlap.Overlap, error) {
	if w.Offline {
		return nil, chest.Explain(ledger.ErrAway)
	}
	out, err := (&overlap.Finder{Chest: w.Chest, Reader: w.Reader()}).Everywhere(ctx, paths, look)
	return out, chest.Explain(err)
}

// AnnounceStatus tells the chest what Changes has found, when nobody else is at work in
// the workspace.
func (w *Workspace) AnnounceStatus(ctx context.Context, s *Status) error {
	if w.busy == nil {
		return nil
	}
	return w.Announce(ctx, s.Changes, s.now)
}

// WantsLock reports whether the project requires or advises a lock for a file that is
// edited here, and this workspace does not hold it.
func (w *Workspace) WantsLock(ctx context.Context, p string) bool {
	locks, err := w.Chest.LocksNear(ctx, []string{p})
	g := w.guard(ctx, locks)
	if err != nil || w.covered(g.locks, p) || w.waived(p) {
		return false
	}
	policy := g.policy(p, func() []byte { return head(w.local(p)) })
	return policy == manifest.Required || policy == manifest.Advised
}

// NewerCommits counts the commits of the branch that are not here, and gives the last.
func (w *Workspace) NewerCommits(ctx context.Context) (n int, last ledger.Commit, err error) {
	if w.Offline {
		return 0, last, nil
	}
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || b.Tip == (ledger.ID{}) || b.Tip == w.Base.ID {
		return 0, last, err
	}
	if last, err = w.Chest.Commit(ctx, b.Tip); err != nil {
		return 0, last, err
	}
	n, err = w.newer(ctx, last)
	return n, last, err
}
