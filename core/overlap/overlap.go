// Package overlap finds artifacts that several people are changing at once: on other
// branches since they parted, and in other workspaces, not committed yet. It tells
// what each side did, and whether the sides would merge.
package overlap

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Verdict says whether the sides of an overlap can be brought together.
type Verdict string

// The verdicts, the worst first.
const (
	// Exclusive: the kind can't be merged, one side will be lost.
	Exclusive Verdict = "exclusive"
	// Clashing: the same element was changed differently.
	Clashing Verdict = "clashing"
	// Unknown: it was not looked into.
	Unknown Verdict = "unknown"
	// Combining: a merge would bring them together by itself.
	Combining Verdict = "combining"
	// Apart: what is edited meets nowhere, as far as it was told; no merge was tried.
	Apart Verdict = "apart"
	// Elsewhere: only others have changed it so far.
	Elsewhere Verdict = "elsewhere"
)

var order = []Verdict{Exclusive, Clashing, Unknown, Apart, Combining, Elsewhere}

// Told is a change as others are told of it.
type Told struct {
	Address string `json:"address"`
	Change  string `json:"change"`
	From    string `json:"from,omitempty"`
	To      string `json:"to,omitempty"`
	// Note says it in words where the two values say little: how many pixels differ.
	Note string `json:"note,omitempty"`
}

// Side is one of those who changed an artifact.
type Side struct {
	// Branch is where the change is, or will be.
	Branch string
	// Workspace is where it is edited; empty for what is committed.
	Workspace string
	Person    string
	Time      time.Time
	// State is the last commit that changed it; empty for an edit.
	State string
	// Gone says that this side took it away.
	Gone bool
	// Told is what was changed, the first ones; More counts those left out.
	Told []Told
	More int
}

// Overlap is an artifact that several sides have changed.
type Overlap struct {
	Path, Kind string
	Sides      []Side
	Verdict    Verdict
	// Clashes lists the addresses at which the sides can't both stand.
	Clashes []string
}

// mostTold is how many changes of a side are told.
const mostTold = 40

// Tell writes how an artifact differs, for others.
func Tell(d state.Difference) ([]Told, int) {
	out := make([]Told, 0, min(len(d.Changes), mostTold))
	for _, c := range d.Changes {
		if len(out) == mostTold {
			return out, len(d.Changes) - mostTold
		}
		t := Told{Address: c.Address.String(), Change: string(c.Kind), Note: d.Note(c)}
		if !c.From.IsAbsent() {
			t.From = clip(c.From.String())
		}
		if !c.To.IsAbsent() {
			t.To = clip(c.To.String())
		}
		if c.Element != nil && c.Element.Gist != "" {
			t.To = clip(c.Element.Gist)
		}
		out = append(out, t)
	}
	return out, 0
}

// clip bounds the length of a value that others are told.
func clip(s string) string {
	const most = 200
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// told is the form in which an edit's changes are recorded.
type told struct {
	Changes []Told `json:"changes"`
	More    int    `json:"more,omitempty"`
}

// Encode writes what is told for the record of an edit.
func Encode(changes []Told, more int) string {
	data, err := json.Marshal(told{changes, more})
	if err != nil { // there is nothing in it that can't be written
		return ""
	}
	return string(data)
}

// decode reads what was told; damage is nothing told.
func decode(text string) (t told) {
	if json.Unmarshal([]byte(text), &t) != nil {
		return told{}
	}
	return t
}

// Finder finds overlaps.
type Finder struct {
	Chest  *chest.Chest
	Reader *state.Reader
}

// Here is the side from which an overlap is looked at: a workspace.
type Here struct {
	Workspace, Branch string
	Base              ledger.Commit
	// Work is its state; Edited tells which paths are edited in it.
	Work   state.State
	Edited map[string]bool
	// Files gives what lies at a path now; the zero File for nothing.
	File func(path string) chest.File
}

// Around tells who else has changed some paths: on other branches since they parted from
// this one, on this branch later, and in other workspaces.
func (f *Finder) Around(ctx context.Context, h Here, paths []string) ([]Overlap, error) {
	crowd, err := f.Chest.Crowd(ctx, paths)
	if err != nil || len(paths) == 0 {
		return nil, err
	}
	lines, err := f.lines(ctx, h.Base)
	if err != nil {
		return nil, err
	}
	var out []Overlap
	for _, p := range paths {
		o := Overlap{Path: p, Verdict: Elsewhere}
		for _, l := range lines {
			if err := f.onBranch(ctx, h, l, &o); err != nil {
				return nil, err
			}
		}
		for _, e := range crowd.Edits {
			if e.Path == p && e.Workspace != h.Workspace {
				f.inWorkspace(ctx, h, crowd.Workspaces[e.Workspace], e, &o)
			}
		}
		if len(o.Sides) > 0 {
			out = append(out, o)
		}
	}
	sortWorst(out)
	return out, nil
}

// line is a branch against a commit: what the two have in common, and its tip.
type line struct {
	branch            string
	tip               ledger.Commit
	baseTree, tipTree state.Commit
}

// lines gives the branches that have commits which a commit does not stand on.
func (f *Finder) lines(ctx context.Context, at ledger.Commit) (out []line, err error) {
	err = f.Chest.View(ctx, func(tx ledger.Records) error {
		branches, err := tx.Branches()
		if err != nil {
			return err
		}
		lineage := chest.NewLineage(tx)
		for _, b := range branches {
			if b.Tip == (ledger.ID{}) || b.Tip == at.ID {
				continue
			}
			tip, err := tx.Commit(b.Tip)
			if err != nil {
				return err
			}
			own, err := lineage.Extent(at)
			if err != nil {
				return err
			}
			if own.Holds(tip) {
				continue
			}
			bases, err := lineage.Bases(at, tip)
			if err != nil {
				return err
			}
			l := line{branch: b.Name, tip: tip, tipTree: state.Commit{Chest: f.Chest, Tree: tip.Tree, Name: b.Name},
				baseTree: state.Commit{Chest: f.Chest, Name: "base"}}
			if len(bases) > 0 {
				l.baseTree.Tree = bases[0].Tree
			}
			out = append(out, l)
		}
		return nil
	})
	return out, chest.Explain(err)
}

// onBranch adds a branch that changed the artifact since the parting.
func (f *Finder) onBranch(ctx context.Context, h Here, l line, o *Overlap) error {
	was, err := l.baseTree.At(o.Path)
	if err != nil {
		return err
	}
	is, err := l.tipTree.At(o.Path)
	if err != nil || is.Same(was) {
		return err
	}
	if now := h.File(o.Path); now.Same(is) {
		return nil // both have the same
	}
	s := Side{Branch: l.branch, Gone: is.Mode == 0}
	if err := f.author(ctx, o.Path, l.tip, h.Base, &s); err != nil {
		return err
	}
	if err := f.tell(ctx, l.baseTree, l.tipTree, &s, o); err != nil {
		return err
	}
	o.Sides = append(o.Sides, s)
	if !h.Edited[o.Path] {
		own, err := state.Commit{Chest: f.Chest, Tree: h.Base.Tree}.At(o.Path)
		if err != nil || own.Same(was) {
			return err
		}
	}
	t, err := f.Reader.Try(ctx, l.baseTree, h.Work, l.tipTree, o.Path)
	if err != nil {
		return err
	}
	o.judge(t)
	return nil
}

// tell says what became of the artifact between two states.
func (f *Finder) tell(ctx context.Context, from, to state.State, s *Side, o *Overlap) error {
	a, err := state.Near(ctx, from, o.Path)
	if err != nil {
		return err
	}
	b, err := state.Near(ctx, to, o.Path)
	if err != nil {
		return err
	}
	diffs, err := f.Reader.Compare(ctx, a, b, []string{o.Path})
	for _, d := range diffs {
		list, more := Tell(d)
		s.Told, s.More, o.Kind = append(s.Told, list...), s.More+more, d.Kind
	}
	return err
}

// judge takes the outcome of a trial into the verdict.
func (o *Overlap) judge(t *state.Outcome) {
	o.Kind = t.Kind
	v := Combining
	if len(t.Conflicts) > 0 {
		v = Clashing
		if !t.Merges {
			v = Exclusive
		}
	}
	o.worsen(v)
	for _, c := range t.Conflicts {
		if a := c.Address.String(); t.Merges && !slices.Contains(o.Clashes, a) {
			o.Clashes = append(o.Clashes, a)
		}
	}
}

func (o *Overlap) worsen(v Verdict) {
	if o.Verdict == "" || slices.Index(order, v) < slices.Index(order, o.Verdict) {
		o.Verdict = v
	}
}

// author tells who changed a path last, among the commits that tip stands on and at does
// not.
func (f *Finder) author(ctx context.Context, p string, tip, at ledger.Commit, s *Side) error {
	var last ledger.Commit
	err := f.Chest.View(ctx, func(tx ledger.Records) error {
		lineage := chest.NewLineage(tx)
		theirs, err := lineage.Extent(tip)
		if err != nil {
			return err
		}
		own, err := lineage.Extent(at)
		if err != nil {
			return err
		}
		touches, err := tx.Touches(p)
		if err != nil {
			return err
		}
		for _, t := range touches {
			if c := t.Commit; theirs.Holds(c) && !own.Holds(c) && (last.ID == (ledger.ID{}) || ledger.Older(last, c) < 0) {
				last = c
			}
		}
		return nil
	})
	if last.ID == (ledger.ID{}) { // a commit of very many paths
		last = tip
	}
	s.Person, s.Time, s.State = last.Author, last.Time, Label(last)
	return chest.Explain(err)
}

// Label writes a commit's address for people: BRANCH:NUMBER.
func Label(c ledger.Commit) string {
	return c.Branch + ":" + element.IntValue(int64(c.Depth)).Text()
}

// inWorkspace adds an edit that is not committed yet.
func (f *Finder) inWorkspace(ctx context.Context, h Here, w ledger.Workspace, e ledger.Edit, o *Overlap) {
	if now := h.File(o.Path); hex.EncodeToString(now.Digest[:]) == e.Content && now.Mode != 0 {
		return
	}
	t := decode(e.Told)
	o.Sides = append(o.Sides, Side{Branch: w.Branch, Workspace: e.Workspace, Person: w.Person, Time: e.Since, Gone: e.State == "gone",
		Told: t.Changes, More: t.More})
	if o.Kind == "" {
		o.Kind = e.Kind
	}
	if !h.Edited[o.Path] {
		return
	}
	mine, err := f.ownChanges(ctx, h, o.Path)
	if err != nil {
		o.worsen(Unknown)
		return
	}
	o.compareTold(e.Merges, mine, t)
}

// ownChanges tells what is edited here.
func (f *Finder) ownChanges(ctx context.Context, h Here, p string) (told, error) {
	base := state.Commit{Chest: f.Chest, Tree: h.Base.Tree, Name: "base"}
	var s Side
	err := f.tell(ctx, base, h.Work, &s, &Overlap{Path: p})
	return told{s.Told, s.More}, err
}

// compareTold judges two edits by what was told of them.
func (o *Overlap) compareTold(merges bool, a, b told) {
	if !merges {
		o.worsen(Exclusive)
		return
	}
	clashes := meeting(a.Changes, b.Changes)
	switch {
	case len(clashes) > 0:
		o.worsen(Clashing)
	case a.More+b.More > 0 || len(a.Changes) == 0 || len(b.Changes) == 0:
		o.worsen(Unknown)
	default:
		o.worsen(Apart)
	}
	for _, c := range clashes {
		if !slices.Contains(o.Clashes, c) {
			o.Clashes = append(o.Clashes, c)
		}
	}
}

// meeting lists the addresses that two lists of changes treat differently.
func meeting(a, b []Told) []string {
	var out []string
	for _, x := range a {
		for _, y := range b {
			switch {
			case x.Address == y.Address && (x.Change != y.Change || x.To != y.To):
				out = append(out, x.Address)
			case x.Change == string(element.Removed) && chest.Covers(x.Address, y.Address) && x.Address != y.Address:
				out = append(out, x.Address)
			case y.Change == string(element.Removed) && chest.Covers(y.Address, x.Address) && x.Address != y.Address:
				out = append(out, y.Address)
			}
		}
	}
	return out
}

func sortWorst(all []Overlap) {
	slices.SortStableFunc(all, func(a, b Overlap) int {
		if d := slices.Index(order, a.Verdict) - slices.Index(order, b.Verdict); d != 0 {
			return d
		}
		if d := len(b.Sides) - len(a.Sides); d != 0 {
			return d
		}
		return strings.Compare(a.Path, b.Path)
	})
}
