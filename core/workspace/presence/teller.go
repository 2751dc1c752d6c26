// Package presence tells others what is being worked on in a workspace, element by element, and tells the workspace what
// others are working on at the same things.
package presence

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/overlap"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Ground is what a workspace says of where it stands.
type Ground interface {
	// Stands gives the branch, and the commit that the files were brought from; Tree is what changes are counted
	// against, which has what is unsent too.
	Stands() (branch string, base ledger.Commit)
	Tree() content.Digest
	Work() state.State
	Waived(p string) bool
	// Present is what the workspace tells of itself.
	Present() ledger.Workspace
}

// Teller tells what one workspace has otherwise than others.
type Teller struct {
	*project.Project
	Disk *disk.Tree
	In   Ground
}

// mostTold bounds how many artifacts are told element by element at a time.
const mostTold = 100

// largestTold bounds the size in bytes of an artifact that is.
const largestTold = 32 << 20

// Announce tells the chest what is edited in the workspace, which it knows. now lists its files.
func (t *Teller) Announce(ctx context.Context, changes []disk.Change, now []state.File) error {
	before, err := t.Chest.EditsOf(ctx, t.Name)
	if err != nil {
		return err
	}
	p := chest.Presence{Workspace: t.In.Present()}
	var unknown []int
	edits, err := t.unpublished(changes)
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
	t.Disk.Remember()
	var work state.State = t.In.Work()
	if now != nil {
		units := map[string]bool{}
		for _, i := range unknown {
			units[p.Edits[i].Path] = true
		}
		work = state.PartOf(t.In.Work().(state.Finder), now, units)
	}
	for n, i := range unknown {
		if n == mostTold {
			break
		}
		from := t.In.Work()
		if _, folder := t.Manifest.Declared(p.Edits[i].Path); folder {
			from = work
		}
		t.tell(ctx, from, &p.Edits[i], changes)
	}
	return t.Chest.Announce(ctx, p)
}

// heldState is the state of an edit that is committed and held here.
const heldState = "held"

// unpublished lists what this workspace has otherwise than its base: what is held, and what
// is edited.
func (t *Teller) unpublished(changes []disk.Change) ([]ledger.Edit, error) {
	out := t.editsOf(changes)
	_, base := t.In.Stands()
	tree := t.In.Tree()
	if base.Tree == tree {
		return out, nil
	}
	pairs, err := t.Chest.Diff(base.Tree, tree)
	if err != nil {
		return nil, chest.Explain(err)
	}
	var held []disk.Change
	edited := make(map[string]bool, len(out))
	for _, e := range out {
		edited[e.Path] = true
	}
	for _, p := range pairs {
		if !edited[t.Reader().Unit(p.Path)] {
			held = append(held, disk.Change{Path: p.Path, State: heldState, Was: p.Was, Is: p.Is})
		}
	}
	return append(out, t.editsOf(held)...), nil
}

// editsOf gathers changes by artifact.
func (t *Teller) editsOf(changes []disk.Change) []ledger.Edit {
	var out []ledger.Edit
	at := map[string]int{}
	r := t.Reader()
	for _, c := range changes {
		u := r.Unit(c.Path)
		digest := t.contentOf(c)
		if i, ok := at[u]; ok {
			out[i].Content, out[i].State = disk.Hex(element.DigestOf([]byte(out[i].Content+"\n"+c.Path+" "+digest))), string(disk.Edited)
			continue
		}
		at[u] = len(out)
		e := ledger.Edit{Workspace: t.Name, Path: u, State: string(c.State), Kind: c.Kind, Content: digest,
			Contested: c.State == disk.Contested || t.In.Waived(c.Path), Since: t.Now()}
		if u != c.Path {
			e.Content = disk.Hex(element.DigestOf([]byte(c.Path + " " + digest)))
		}
		if c.State == disk.Contested {
			e.State = string(disk.Edited)
		}
		out = append(out, e)
	}
	return out
}

// contentOf names what a changed file holds now: by its digest, or, of a large one that
// nobody has read yet, by its size and time.
func (t *Teller) contentOf(c disk.Change) string {
	seen, left := t.Disk.Unread(c.Path)
	switch {
	case c.Is.Mode == 0:
		return ""
	case c.Is.Digest != (element.Digest{}) || !left:
		return disk.Hex(c.Is.Digest)
	case seen.Size > largestTold:
		return fmt.Sprintf("%d bytes of %d", seen.Size, seen.Changed)
	}
	d, _, err := disk.DigestFile(t.Disk.Local(c.Path))
	if err != nil {
		return ""
	}
	t.Disk.Learn(c.Path, seen, d)
	return disk.Hex(d)
}

// tell adds what an edit changes, element by element.
func (t *Teller) tell(ctx context.Context, work state.State, e *ledger.Edit, changes []disk.Change) {
	for _, c := range changes {
		if c.Is.Size > largestTold && t.Reader().Unit(c.Path) == e.Path {
			return
		}
	}
	r := t.Reader()
	_, base := t.In.Stands()
	a, err := state.Near(ctx, t.CommitState(base, project.Label(base)), e.Path)
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

// AnnounceAt tells the chest what is edited of some artifacts.
func (t *Teller) AnnounceAt(ctx context.Context, addresses []string, changes []disk.Change) error {
	before, err := t.Chest.EditsOf(ctx, t.Name)
	if err != nil {
		return err
	}
	r := t.Reader()
	asked := map[string]bool{}
	for _, a := range addresses {
		p, _, _ := strings.Cut(a, "::")
		asked[r.Unit(p)] = true
	}
	told := slices.ContainsFunc(before, func(e ledger.Edit) bool { return asked[e.Path] })
	if len(changes) == 0 && !told {
		return nil
	}
	all := t.editsOf(changes)
	fresh := map[string]bool{}
	for i := range all {
		fresh[all[i].Path] = true
		t.tell(ctx, t.In.Work(), &all[i], changes)
	}
	for _, e := range before { // what is not asked about stays as it was told
		if !fresh[e.Path] && !asked[e.Path] {
			all = append(all, e)
		}
	}
	return t.Chest.Announce(ctx, chest.Presence{Workspace: t.In.Present(), Edits: all})
}
