package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Pending is a merge or revert that has begun and is not committed. It is kept
// as data beside the files, which hold mine where a conflict is open.
type Pending struct {
	Format int `json:"format"`
	// What says what is being done, for people: `merge kelp`.
	What    string `json:"what"`
	Message string `json:"message"`
	// Base, Mine and Theirs are the trees that are merged, in hexadecimal.
	Base, Mine, Theirs string
	// Parent is the commit that becomes the second parent; empty for a revert.
	Parent string `json:"parent,omitempty"`
	// Settled lists the choices that were made.
	Settled []settledConflict `json:"settled"`
	// AsIs lists artifacts that the person has settled by hand.
	AsIs []string `json:"asIs"`
	// Written says what the merge wrote, by path, in hexadecimal; empty for a
	// file that it took away.
	Written map[string]string `json:"written"`
}

type settledConflict struct {
	Address string `json:"address"`
	Keep    string `json:"keep"`
	Sort    string `json:"sort,omitempty"`
	Value   string `json:"value,omitempty"`
}

func (w *Workspace) pendingFile() string { return filepath.Join(w.Root, Folder, "merge.json") }

// Pending gives the merge under way, nil for none.
func (w *Workspace) Pending() (*Pending, error) {
	data, err := os.ReadFile(w.pendingFile())
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	p := &Pending{}
	if err == nil {
		err = json.Unmarshal(data, p)
	}
	if err != nil || p.Format != formatVersion {
		return nil, fault.New(fault.Damaged, "Bring .oaken/merge.json back from a copy, or remove it to give the merge up.", "The record of the merge under way can't be read.")
	}
	return p, nil
}

func (w *Workspace) savePending(p *Pending) error {
	p.Format = formatVersion
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	return w.writeOwn("merge.json", append(data, '\n'))
}

// MergeResult is what a merge or revert has come to.
type MergeResult struct {
	// UpToDate says that there was nothing to merge.
	UpToDate bool
	// Committed is set when no conflict was left.
	Committed *Committed
	Conflicts []element.Conflict
	// Artifacts lists what both sides had changed.
	Artifacts []string
}

// Merge brings a commit into the workspace and, when nothing is in conflict,
// commits the result. The workspace must have no changes of its own.
func (w *Workspace) Merge(ctx context.Context, theirs ledger.Commit, label, message string) (*MergeResult, error) {
	if err := w.quiet(ctx, "merge"); err != nil {
		return nil, err
	}
	baseID, err := w.Chest.MergeBase(ctx, w.Base.ID, theirs.ID)
	if err != nil {
		return nil, err
	}
	if baseID == theirs.ID {
		return &MergeResult{UpToDate: true}, nil
	}
	var base ledger.Commit
	if baseID != (ledger.ID{}) {
		if base, err = w.Chest.Resolve(ctx, baseID.String()); err != nil {
			return nil, err
		}
	}
	if message == "" {
		message = "Merge " + label + " into " + w.Branch
	}
	p := &Pending{What: "merge " + label, Message: message, Base: hexOf(base.Tree), Mine: hexOf(w.Base.Tree), Theirs: hexOf(theirs.Tree), Parent: theirs.ID.String()}
	return w.begin(ctx, p)
}

// Revert undoes what a commit did, by a new commit.
func (w *Workspace) Revert(ctx context.Context, c ledger.Commit, message string) (*MergeResult, error) {
	if err := w.quiet(ctx, "revert"); err != nil {
		return nil, err
	}
	reached := false
	err := w.Chest.Ancestors(ctx, w.Base.ID, func(a ledger.Commit) (bool, error) {
		reached = reached || a.ID == c.ID
		return !reached && a.Generation > c.Generation, nil
	})
	if err != nil {
		return nil, err
	}
	if !reached {
		return nil, fault.New(fault.Usage, "oaken history shows the commits of this branch.", "%s is not among the commits of branch %s.", Label(c), w.Branch)
	}
	var before ledger.Commit
	if len(c.Parents) > 0 {
		if before, err = w.Chest.Resolve(ctx, c.Parents[0].String()); err != nil {
			return nil, err
		}
	}
	if message == "" {
		message = "Undo " + Label(c) + ": " + c.Message
	}
	return w.begin(ctx, &Pending{What: "revert " + Label(c), Message: message, Base: hexOf(c.Tree), Mine: hexOf(w.Base.Tree), Theirs: hexOf(before.Tree)})
}

// quiet refuses when something is under way or edited here.
func (w *Workspace) quiet(ctx context.Context, what string) error {
	p, err := w.Pending()
	if err != nil {
		return err
	}
	if p != nil {
		return fault.New(fault.Conflict, "Finish it with oaken resolve and oaken commit, or give it up with oaken merge --abandon.", "%s is under way already.", p.What)
	}
	s, err := w.Changes(ctx)
	if err != nil {
		return err
	}
	if len(s.Changes) > 0 {
		return fault.New(fault.Refused, "Commit them first, or bring them back with oaken restore PATH --from "+Label(w.Base)+".", "A %s needs a workspace without changes, and %s changed: %s.",
			what, isAre(len(s.Changes)), listed(pathsOf(s.Changes)))
	}
	return nil
}

func pathsOf(changes []Change) []string {
	var out []string
	for _, c := range changes {
		out = append(out, c.Path)
	}
	return out
}

// begin runs a merge for the first time.
func (w *Workspace) begin(ctx context.Context, p *Pending) (*MergeResult, error) {
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, err
	}
	if err := w.apply(ctx, p, m); err != nil {
		return nil, err
	}
	r := &MergeResult{Conflicts: m.Conflicts, Artifacts: m.Artifacts}
	if len(m.Conflicts) > 0 {
		return r, nil
	}
	if p.Parent == "" && len(m.Edits) == 0 {
		r.UpToDate = true
		return r, os.Remove(w.pendingFile())
	}
	r.Committed, err = w.commitMerge(ctx, CommitOptions{Message: p.Message}, p)
	return r, err
}

// states gives the three states of a merge under way.
func (w *Workspace) states(p *Pending) (base, mine, theirs state.State, err error) {
	var trees [3]element.Digest
	for i, s := range []string{p.Base, p.Mine, p.Theirs} {
		if trees[i], err = fromHex(s); err != nil {
			return nil, nil, nil, err
		}
	}
	at := func(d element.Digest, name string) state.State {
		return state.Commit{Chest: w.Chest, Tree: d, Name: name}
	}
	return at(trees[0], "base"), at(trees[1], "mine"), at(trees[2], "theirs"), nil
}

// compute merges with the choices that were made so far.
func (w *Workspace) compute(ctx context.Context, p *Pending) (*state.Merged, error) {
	base, mine, theirs, err := w.states(p)
	if err != nil {
		return nil, err
	}
	choices := map[string]element.Choice{}
	for _, s := range p.Settled {
		choices[s.Address] = element.Choice{Keep: element.Keep(s.Keep), Value: restoreValue(s)}
	}
	return w.Reader().Merge(ctx, base, mine, theirs, func(c element.Conflict) (element.Choice, bool) {
		if slices.Contains(p.AsIs, c.Address.Path) {
			return element.Choice{Keep: element.KeepMine}, true
		}
		choice, ok := choices[c.Address.String()]
		return choice, ok
	})
}

func restoreValue(s settledConflict) element.Value {
	if s.Sort == "" {
		return element.Value{}
	}
	v, err := element.ParseLike(sampleOf(s.Sort), s.Value)
	if err != nil {
		return element.TextValue(s.Value)
	}
	return v
}

// sampleOf gives a value of a sort by its name; `list of numbers` for a list.
func sampleOf(sort string) element.Value {
	switch sort {
	case "number":
		return element.IntValue(0)
	case "bool":
		return element.BoolValue(true)
	case "numbers":
		return element.ListValue(element.IntValue(0))
	case "texts":
		return element.ListValue(element.TextValue(""))
	}
	return element.TextValue("")
}

func sortName(v element.Value) string {
	switch v.Sort() {
	case element.Number:
		return "number"
	case element.Bool:
		return "bool"
	case element.List:
		if items := v.Items(); len(items) > 0 && items[0].Sort() == element.Number {
			return "numbers"
		}
		return "texts"
	}
	return "text"
}

// apply brings the workspace from what the merge wrote before to what it comes
// to now, and remembers it.
func (w *Workspace) apply(ctx context.Context, p *Pending, m *state.Merged) error {
	_, mine, theirs, err := w.states(p)
	if err != nil {
		return err
	}
	next := map[string]string{}
	for _, e := range m.Edits {
		switch {
		case w.asIs(p, e.Path):
			next[e.Path] = p.Written[e.Path]
		case e.Gone:
			next[e.Path] = ""
		case e.Take.Mode != 0:
			next[e.Path] = hexOf(e.Take.Digest)
		default:
			next[e.Path] = hexOf(element.DigestOf(e.Data))
		}
	}
	old := p.Written
	p.Written = map[string]string{}
	for path, d := range next {
		p.Written[path] = d
	}
	for path, d := range old { // also what is about to be taken back, in case we are stopped
		if _, ok := p.Written[path]; !ok {
			p.Written[path] = d
		}
	}
	if err := w.savePending(p); err != nil {
		return err
	}
	mineFiles, err := mine.Files(ctx)
	if err != nil {
		return err
	}
	isMine := byPath(mineFiles)
	for path := range old {
		if _, stays := next[path]; stays || w.asIs(p, path) {
			continue
		}
		if f, ok := isMine[path]; !ok {
			err = w.remove(path)
		} else {
			err = w.fetch(mine, f, true)
		}
		if err != nil {
			return err
		}
		delete(p.Written, path)
	}
	return w.writeEdits(p, m, old, theirs)
}

func (w *Workspace) asIs(p *Pending, path string) bool {
	return slices.Contains(p.AsIs, w.Reader().Unit(path))
}

func (w *Workspace) writeEdits(p *Pending, m *state.Merged, old map[string]string, theirs state.State) error {
	goneFirst := slices.Clone(m.Edits) // a file may go where a folder comes, or the reverse
	slices.SortStableFunc(goneFirst, func(a, b state.Edit) int {
		switch {
		case a.Gone == b.Gone:
			return 0
		case a.Gone:
			return -1
		}
		return 1
	})
	for _, e := range goneFirst {
		if was, ok := old[e.Path]; w.asIs(p, e.Path) || ok && was == p.Written[e.Path] {
			continue
		}
		var err error
		switch {
		case e.Gone:
			err = w.remove(e.Path)
		case e.Take.Mode != 0:
			err = w.takeFrom(e, theirs)
		default:
			mode := os.FileMode(0o666)
			if e.Mode == chest.Executable {
				mode = 0o777
			}
			err = w.write(e.Path, e.Data, mode&^umask)
		}
		if err != nil {
			return err
		}
	}
	return w.savePending(p)
}

// takeFrom writes a file by its digest, which is in the chest, under the path
// of the edit.
func (w *Workspace) takeFrom(e state.Edit, theirs state.State) error {
	f := e.Take
	f.Path = e.Path
	return w.fetch(byDigest{w, theirs, f}, f, true)
}

// byDigest opens one file by its digest, whatever its path.
type byDigest struct {
	w *Workspace
	state.State
	file state.File
}

// Conflicts lists what is open in the merge under way.
func (w *Workspace) Conflicts(ctx context.Context) (*Pending, []element.Conflict, error) {
	p, err := w.Pending()
	if err != nil || p == nil {
		return nil, nil, err
	}
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return p, m.Conflicts, nil
}

// Resolve settles the conflict at an address, or all of an artifact when the
// address is a path, and gives what was settled and what is left open. value is
// used with KeepValue.
func (w *Workspace) Resolve(ctx context.Context, address element.Address, keep element.Keep, value string) (settled, left []element.Conflict, err error) {
	p, open, err := w.Conflicts(ctx)
	if err != nil {
		return nil, nil, err
	}
	if p == nil {
		return nil, nil, fault.New(fault.Usage, "oaken merge and oaken revert can leave conflicts.", "Nothing is being merged, so there is no conflict to resolve.")
	}
	for _, c := range open {
		if c.Address.String() == address.String() || address.Whole() && state.Under([]string{address.Path}, c.Address.Path) {
			settled = append(settled, c)
		}
	}
	if len(settled) == 0 {
		return nil, nil, fault.New(fault.Usage, "oaken conflicts lists the addresses that are open.", "No conflict is open at %s.", address)
	}
	edited, err := w.editedSince(p, settled)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range settled {
		if slices.Contains(edited, c.Address.Path) {
			if keep != element.KeepMine || !address.Whole() {
				return nil, nil, fault.New(fault.Refused, "Settle the whole artifact as it now stands with oaken resolve "+c.Address.Path+" --keep mine.", "%s was edited by hand since the merge.", c.Address.Path)
			}
			p.AsIs = append(p.AsIs, c.Address.Path)
			continue
		}
		s, err := settle(c, keep, value)
		if err != nil {
			return nil, nil, err
		}
		p.Settled = append(p.Settled, s)
	}
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return settled, m.Conflicts, w.apply(ctx, p, m)
}

func settle(c element.Conflict, keep element.Keep, value string) (settledConflict, error) {
	s := settledConflict{Address: c.Address.String(), Keep: string(keep)}
	if !slices.Contains(c.Allows, keep) {
		words := ""
		for i, k := range c.Allows {
			if i > 0 {
				words += ", "
			}
			words += string(k)
		}
		return s, fault.New(fault.Usage, "It can be settled with "+words+".", "%s can't be settled with %s.", c.Address, keep)
	}
	if keep == element.KeepValue {
		sample := c.Mine.Value
		if sample.IsAbsent() {
			sample = c.Theirs.Value
		}
		if _, err := element.ParseLike(sample, value); err != nil {
			return s, fault.New(fault.Usage, "Write a value like "+sample.String()+".", "%s can't be set: %w.", c.Address, err)
		}
		s.Sort, s.Value = sortName(sample), value
	}
	return s, nil
}

// editedSince lists the artifacts among conflicts whose files are not as the
// merge left them.
func (w *Workspace) editedSince(p *Pending, conflicts []element.Conflict) ([]string, error) {
	_, mine, _, err := w.states(p)
	if err != nil {
		return nil, err
	}
	files, err := mine.Files(context.Background())
	if err != nil {
		return nil, err
	}
	expected := map[string]string{}
	for _, f := range files {
		expected[f.Path] = hexOf(f.Digest)
	}
	for path, d := range p.Written {
		expected[path] = d
	}
	var out []string
	for path, want := range expected {
		unit := w.Reader().Unit(path)
		if !slices.ContainsFunc(conflicts, func(c element.Conflict) bool { return c.Address.Path == unit || c.Address.Path == path }) {
			continue
		}
		got := ""
		if info, err := os.Lstat(w.local(path)); err == nil && info.Mode().IsRegular() {
			d, _, err := digestFile(w.local(path))
			if err != nil {
				return nil, err
			}
			got = hexOf(d)
		}
		if got != want && !slices.Contains(out, unit) {
			out = append(out, unit)
		}
	}
	return out, nil
}

// Abandon gives the merge under way up and restores what it found. Edits made
// since are kept as rescue copies, in the folder that is given back.
func (w *Workspace) Abandon(ctx context.Context) (*Pending, string, error) {
	p, err := w.Pending()
	if err != nil {
		return nil, "", err
	}
	if p == nil {
		return nil, "", fault.New(fault.Usage, "oaken changes shows the state of the workspace.", "Nothing is being merged.")
	}
	s, err := w.Changes(ctx)
	if err != nil {
		return nil, "", err
	}
	var edited []string
	for _, c := range s.Changes {
		if d, ok := p.Written[c.Path]; c.is.Mode != 0 && (!ok || d != hexOf(c.is.Digest)) {
			edited = append(edited, c.Path)
		}
	}
	kept, err := w.rescue(edited)
	if err != nil {
		return nil, "", err
	}
	if err := w.undo(s.Changes, p.Written); err != nil {
		return nil, "", err
	}
	if err := w.MarkReadOnly(ctx); err != nil {
		return nil, "", err
	}
	return p, kept, os.Remove(w.pendingFile())
}

// undo brings changed files back as the base has them. Files that were made by
// hand, and not by the merge that wrote some, stay.
func (w *Workspace) undo(changes []Change, written map[string]string) error {
	var bring []state.File
	for _, c := range changes {
		if _, ok := written[c.Path]; !ok && c.State == New {
			continue
		}
		if c.was.Mode != 0 {
			bring = append(bring, c.was)
		}
		if c.was.Mode == 0 || c.From != "" {
			if err := w.remove(c.Path); err != nil {
				return err
			}
		}
	}
	for _, f := range bring {
		if err := w.fetch(w.BaseState(), f, true); err != nil {
			return err
		}
	}
	return nil
}

// commitMerge records the outcome of a merge. Files need no lock for it.
func (w *Workspace) commitMerge(ctx context.Context, o CommitOptions, p *Pending) (*Committed, error) {
	m, err := w.compute(ctx, p)
	if err != nil {
		return nil, err
	}
	if len(m.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict, "See them with oaken conflicts and settle each with oaken resolve ADDRESS --keep mine|theirs|both|base.", "%d of the conflicts of %s are still open.", len(m.Conflicts), p.What)
	}
	if len(o.Paths) > 0 {
		return nil, fault.New(fault.Usage, "Leave the paths out.", "A merge is committed whole.")
	}
	s, err := w.Changes(ctx)
	if err != nil {
		return nil, err
	}
	var parent ledger.ID
	if p.Parent != "" {
		if parent, err = ledger.ParseID(p.Parent); err != nil {
			return nil, err
		}
	}
	c, err := w.record(ctx, s.Changes, o, parent)
	if err != nil {
		return nil, err
	}
	return c, os.Remove(w.pendingFile())
}
