package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/chest/remote"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// JoinOptions are the choices of Join.
type JoinOptions struct {
	// Branch is the branch to work on; empty for the first.
	Branch string
	// State is a state to lay out in place of a branch's tip: a release, or an
	// earlier commit. The workspace then stands on the branch of that commit.
	State string
	// Only lists patterns of what to lay out; none means everything.
	Only   []string
	Person string
}

// Join gets a workspace of an existing chest: it lays the tip of a branch out in
// a folder that is new or empty. location is a chest, or a workspace that a
// chest lies in.
func Join(ctx context.Context, host Host, location, folder string, o JoinOptions) (w *Workspace, err error) {
	if err := checkOnly(o.Only); err != nil {
		return nil, err
	}
	if location, err = chestOf(location); err != nil {
		return nil, err
	}
	root, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(root); err == nil && len(entries) > 0 {
		return nil, fault.New(fault.Refused, "Name a new or empty folder.", "%s is not empty, so no workspace was made there.", folder)
	}
	if above, err := find(root); err == nil {
		return nil, fault.New(fault.Refused, "Name a folder outside of it.", "%s lies in the workspace %s.", folder, above)
	}
	f, err := host.openChest(ctx, location)
	if err != nil {
		return nil, chest.Explain(err)
	}
	person, err := host.named(o.Person, f.person)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	branch, commit, err := begin(ctx, chest.New(f.Store), o)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	_, existed := os.Stat(root)
	w = inFolder(root, host)
	w.Manifest, w.Person, w.Name, w.Branch = &manifest.Manifest{}, person, workspaceName(person, host.Machine, root), branch
	w.use(f)
	w.rec = record{Format: formatVersion, Person: person, Name: w.Name, Chest: f.at, Only: o.Only}
	err = os.MkdirAll(filepath.Join(root, Folder, "temp"), disk.OwnFolder)
	if err == nil {
		err = w.register(ctx)
		if fault.CodeOf(chest.Explain(err)) == fault.Unreachable { // a chest that can only be read
			err = nil
		}
	}
	if err == nil {
		_, err = w.switchTo(ctx, branch, commit)
	}
	if err != nil {
		err = errors.Join(err, f.Close(), os.RemoveAll(filepath.Join(root, Folder)))
		if existed != nil {
			err = errors.Join(err, os.RemoveAll(root))
		}
		return nil, err
	}
	return w, nil
}

// chestOf gives the place of the chest at a location: a chest itself, or the one
// of a workspace.
func chestOf(location string) (string, error) {
	abs, err := placeOf(location)
	if err != nil || remote.IsAddress(abs) {
		return abs, err
	}
	if _, err := os.Stat(filepath.Join(abs, Folder, "workspace.toml")); err == nil {
		other, err := readRecord(abs)
		return other.location(abs), err
	}
	if inside := filepath.Join(abs, Folder, "chest"); local.Exists(inside) {
		return inside, nil // what is left of a workspace
	}
	return abs, nil
}

// begin gives the branch and the commit, empty before the first, that a new
// workspace stands on.
func begin(ctx context.Context, c *chest.Chest, o JoinOptions) (branch, commit string, err error) {
	if o.State != "" {
		at, err := c.Resolve(ctx, o.State)
		return at.Branch, optionalID(at.ID), err
	}
	if o.Branch == "" {
		o.Branch = chest.FirstBranch
	}
	b, err := c.Branch(ctx, o.Branch)
	return b.Name, optionalID(b.Tip), err
}

// Synced is what Sync has done.
type Synced struct {
	// Commits counts what came in.
	Commits int
	Transition
	// Combined lists artifacts that were edited here and are newer there, and
	// were combined by element.
	Combined []state.Combined
	// Published lists held commits that went out, Released the locks that ended.
	Published []ledger.Commit
	Released  []string
	// Conflicts is what stands between held commits and newer ones; it is laid open as a
	// merge that is under way.
	Conflicts []element.Conflict
}

// Sync brings the branch's newer commits into the workspace. Edits that are not
// committed stay; where the same artifact is newer, the two are combined by
// element, and when they can't be, nothing is changed. Held commits are published.
func (w *Workspace) Sync(ctx context.Context) (*Synced, error) {
	p, err := w.Pending()
	if err != nil {
		return nil, err
	}
	if p != nil {
		return nil, fault.New(fault.Conflict, "Finish it with oaken commit, or give it up with oaken merge --abandon.",
			"%s is under way.", p.What)
	}
	if len(w.unsent.Commits) > 0 || w.Offline {
		return w.Publish(ctx)
	}
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil {
		return nil, err
	}
	if b.Tip == w.Base.ID || b.Tip == (ledger.ID{}) {
		return &Synced{}, nil
	}
	tip, err := w.Chest.Commit(ctx, b.Tip)
	if err != nil {
		return nil, err
	}
	out := &Synced{}
	if out.Commits, err = w.newer(ctx, tip); err != nil || out.Commits == 0 {
		return out, err
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	both, err := w.editedOnBoth(ctx, s.Changes, tip)
	if err != nil {
		return nil, err
	}
	var staged []disk.Staged
	if len(both) > 0 {
		if out.Combined, staged, err = w.combine(ctx, tip, both); err != nil {
			return nil, err
		}
	}
	out.Transition, err = w.switchFrom(ctx, disk.Journal{From: disk.Hex(w.tree()), Branch: w.Branch, Commit: tip.ID.String(), Keep: both,
		Staged: staged})
	return out, err
}

// editedOnBoth lists the files that were edited here and differ in a newer commit.
func (w *Workspace) editedOnBoth(ctx context.Context, changes []Change, tip ledger.Commit) ([]string, error) {
	before, err := w.BaseState().Files(ctx)
	if err != nil {
		return nil, err
	}
	after, err := w.Chest.Files(tip.Tree)
	if err != nil {
		return nil, chest.Explain(err)
	}
	was, then := state.ByPath(before), state.ByPath(after)
	var out []string
	for _, c := range changes {
		if !was[c.Path].Same(then[c.Path]) {
			out = append(out, c.Path)
		}
	}
	return out, nil
}

// combine merges the edits of this workspace with a newer commit, for files
// that both have changed. The outcome is staged, to be put into place as if it had been
// edited here once the newer commit is laid out; what was there is kept as a rescue copy.
func (w *Workspace) combine(ctx context.Context, tip ledger.Commit, both []string) (artifacts []state.Combined,
	staged []disk.Staged, err error) {
	theirs := w.CommitState(tip, Label(tip))
	m, err := w.Reader().Merge(ctx, w.BaseState(), w.Work(), theirs, nil)
	if err != nil {
		return nil, nil, err
	}
	if len(m.Conflicts) > 0 {
		return nil, nil, fault.New(fault.Conflict,
			"Nothing was changed. Commit it: it is then unsent, and the conflicts are laid open to be settled.",
			"What you edited can't be combined with what is newer, at %s%s.", m.Conflicts[0].Address, more(len(m.Conflicts)-1))
	}
	if _, err := w.rescue(ctx, both); err != nil {
		return nil, nil, err
	}
	for _, e := range m.Edits {
		if !state.Under(both, e.Path) {
			continue
		}
		f, err := w.disk.Stage(e, w.Chest.Contents)
		if err != nil {
			return nil, nil, err
		}
		staged = append(staged, f)
	}
	return m.Artifacts, staged, nil
}

func more(n int) string {
	if n == 0 {
		return ""
	}
	return " and " + itoa(n) + " more"
}
