// Package owed keeps the list that nobody keeps by hand: what has reached a later
// environment and has not come back to an earlier one. It is computed anew each time, from
// what environments hold and from the graph of commits (package arrival), so nothing has
// to be ticked off.
package owed

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Debt is what one environment is owed.
type Debt struct {
	// Lane is that of the environment; empty for one that lanes share.
	Lane, Environment string
	Works             []Work // the oldest first
	// TakenBack lists what later environments have and was taken back from this one: it is
	// not owed until somebody brings it there.
	TakenBack []Work
}

// Work is a commit that a later environment has.
type Work struct {
	ledger.Commit
	// First is the commit that did it first: another one where this is a pick.
	First ledger.Commit
	// Where is the latest environment that has it, Since when it came there.
	Where string
	Since time.Time
	// Merged says that the environment's branch has it: it waits for a deployment alone.
	Merged bool
}

// Book knows what each environment holds.
type Book struct {
	Landscape *landscape.Landscape
	// Standing gives the commit that each environment holds, as far as it is recorded;
	// Deployed gives the deployments that made it so, the newest last.
	Standing map[string]ledger.Commit
	Deployed map[string][]ledger.Deployment

	// Arrived tells what has come where.
	Arrived *arrival.Reader

	absent     map[string]map[ledger.ID]bool // by environment and work
	concerned  map[concernKey]bool
	everybodys folderSet
	tx         ledger.Records
	tips       map[string]ledger.Commit
	commits    map[ledger.ID]ledger.Commit
	since      map[sinceKey]time.Time
}

type concernKey struct {
	folders string
	work    ledger.ID
}

type sinceKey struct {
	environment string
	work        ledger.ID
}

// View lets fn read a book of what a chest's environments hold and are owed.
func View(ctx context.Context, c *chest.Chest, l *landscape.Landscape, fn func(*Book) error) error {
	return chest.Explain(c.View(ctx, func(tx ledger.Records) error {
		r, err := arrival.Open(tx)
		if err != nil {
			return err
		}
		b, err := Open(tx, r, l, c.RecordName)
		if err != nil {
			return err
		}
		return fn(b)
	}))
}

// Open reads what environments hold; named gives the name under which the records of one are
// kept.
func Open(tx ledger.Records, r *arrival.Reader, l *landscape.Landscape, named func(environment string) string) (*Book, error) {
	b := &Book{Landscape: l, Standing: map[string]ledger.Commit{}, Deployed: map[string][]ledger.Deployment{}, tx: tx, Arrived: r,
		tips: map[string]ledger.Commit{}, commits: map[ledger.ID]ledger.Commit{}, since: map[sinceKey]time.Time{},
		concerned: map[concernKey]bool{}, everybodys: setOf(l.Staged()...)}
	all, err := tx.Deployments("")
	if err != nil {
		return nil, err
	}
	undone, err := tx.AllUndone()
	if err != nil {
		return nil, err
	}
	plain := map[string]string{}
	for _, e := range l.Manifest.Environments {
		plain[named(e.Name)] = e.Name
	}
	for _, d := range slices.Backward(all) { // the oldest first
		if name, ok := plain[d.Environment]; ok {
			d.Environment = name
		}
		if _, is := undone[d.Number]; !is {
			b.Deployed[d.Environment] = append(b.Deployed[d.Environment], d)
		}
	}
	for name, list := range b.Deployed {
		if b.Standing[name], err = b.commit(list[len(list)-1].Commit); err != nil {
			return nil, err
		}
	}
	absences, err := tx.Absences()
	if err != nil {
		return nil, err
	}
	b.absent = map[string]map[ledger.ID]bool{}
	for name, list := range absences {
		if known, ok := plain[name]; ok {
			name = known
		}
		b.absent[name] = map[ledger.ID]bool{}
		for _, a := range list {
			b.absent[name][r.Root(a.Work)] = true
		}
	}
	branches, err := tx.Branches()
	if err != nil {
		return nil, err
	}
	for _, br := range branches {
		if br.Tip == (ledger.ID{}) {
			continue
		}
		if b.tips[br.Name], err = b.commit(br.Tip); err != nil {
			return nil, err
		}
	}
	return b, nil
}

func (b *Book) commit(id ledger.ID) (ledger.Commit, error) {
	if c, ok := b.commits[id]; ok {
		return c, nil
	}
	c, err := b.tx.Commit(id)
	b.commits[id] = c
	return c, err
}

// Tip gives the newest commit of a branch; the zero commit for none.
func (b *Book) Tip(branch string) ledger.Commit { return b.tips[branch] }

// Has gives what an environment holds: what was deployed there last, or, where nothing
// was, the tip of its branch. ok is false when neither is known.
func (b *Book) Has(e manifest.Environment) (c ledger.Commit, ok bool) {
	if c, ok = b.Standing[e.Name]; ok {
		return c, true
	}
	c, ok = b.tips[b.Landscape.Manifest.BranchOf(e)]
	return c, ok
}

// Offers gives what work could be taken from an environment: what it holds, and, where no move leads in, what was
// committed to its branch too.
func (b *Book) Offers(e manifest.Environment) (c ledger.Commit, ok bool) {
	if tip := b.tips[b.Landscape.Manifest.BranchOf(e)]; len(b.Landscape.Into(e.Name)) == 0 && tip.Depth > 0 {
		return tip, true
	}
	c, ok = b.Standing[e.Name]
	return c, ok
}

// All gives what every environment of the pipeline is owed, those that are owed nothing, and
// from which nothing was taken back, left out.
func (b *Book) All() ([]Debt, error) {
	var out []Debt
	for _, e := range b.Landscape.Staged() {
		d, err := b.To(e)
		if err != nil {
			return nil, err
		}
		if len(d.Works)+len(d.TakenBack) > 0 {
			out = append(out, d)
		}
	}
	return out, nil
}

// Empty lists the environments that work is promoted to and to which nothing was deployed
// yet: what they hold, and so what they are owed and what others are owed of them, is not
// known.
func (b *Book) Empty() (names []string) {
	for _, e := range b.Landscape.Staged() {
		if _, stands := b.Standing[e.Name]; !stands && len(b.Landscape.Into(e.Name)) > 0 {
			names = append(names, e.Name)
		}
	}
	return names
}

// To gives what one environment is owed.
func (b *Book) To(e manifest.Environment) (Debt, error) {
	d := Debt{Lane: e.Lane, Environment: e.Name}
	has, ok := b.Has(e)
	if !ok {
		return d, nil
	}
	works, err := b.lacking(has, b.Landscape.Later(e.Name))
	if err != nil || len(works) == 0 {
		return d, err
	}
	tip := b.tips[b.Landscape.Manifest.BranchOf(e)]
	missing, err := b.Arrived.MissingOf(tip, b.held(b.Landscape.Later(e.Name)))
	if err != nil {
		return d, err
	}
	open := make(map[ledger.ID]bool, len(missing))
	for _, c := range missing {
		open[b.Arrived.Root(c.ID)] = true
	}
	own := setOf(e)
	for _, w := range works {
		root := b.Arrived.Root(w.ID)
		w.Merged = tip.Depth > 0 && tip.ID != has.ID && !open[root]
		folders := own
		if tip.Depth > 0 && !w.Merged {
			folders = b.everybodys
		}
		concerns, err := b.concerns(w.Commit, folders)
		switch {
		case err != nil:
			return d, err
		case !concerns:
		case b.absent[e.Name][root]:
			d.TakenBack = append(d.TakenBack, w)
		default:
			d.Works = append(d.Works, w)
		}
	}
	return d, nil
}

// concerns reports whether a work is the business of who holds some folders: it changed
// something there. Those of an environment are its own, or, while its branch has not got the
// work, those of all environments of the pipeline, such as the scene that people of the lane
// work on. Rules of the project are nobody's debt. What people settled in a merge counts always.
func (b *Book) concerns(c ledger.Commit, f folderSet) (bool, error) {
	if b.Arrived.IsSettled(c) {
		return true, nil
	}
	key := concernKey{f.name, b.Arrived.Root(c.ID)}
	if yes, ok := b.concerned[key]; ok {
		return yes, nil
	}
	yes, err := b.tx.TouchesAny(key.work, f.folders)
	b.concerned[key] = yes
	return yes, err
}

// folderSet is folders, and one name for them all.
type folderSet struct {
	name    string
	folders []string
}

func setOf(environments ...manifest.Environment) (f folderSet) {
	for _, e := range environments {
		f.folders = append(f.folders, e.Folders()...)
	}
	slices.Sort(f.folders)
	f.folders = slices.Compact(f.folders)
	f.name = strings.Join(f.folders, "\n")
	return f
}

// held lists what environments hold, as far as it is recorded.
func (b *Book) held(list []manifest.Environment) []ledger.Commit {
	var out []ledger.Commit
	for _, e := range list {
		if c, ok := b.Standing[e.Name]; ok {
			out = append(out, c)
		}
	}
	return out
}

// LaneOfWork gives the lane that did a work first, whatever branch a pick of it lies on; empty
// for none.
func (b *Book) LaneOfWork(c ledger.Commit) (string, error) {
	first, err := b.commit(b.Arrived.Root(c.ID))
	return b.Landscape.LaneOf(first.Branch), err
}

// OfLive gives what the environments of a lane are owed of live ones and its branch has not,
// each work once, as All tells it: what only waits for a deployment is left out. A lane
// without environments stands where its branch does.
func (b *Book) OfLive(lane manifest.Lane) ([]Work, error) {
	var all []Work
	members := b.Landscape.Members(lane.Name)
	for _, e := range members {
		d, err := b.To(e)
		if err != nil {
			return nil, err
		}
		all = append(all, d.Works...)
	}
	if tip, ok := b.tips[lane.Branch]; ok && len(members) == 0 {
		var err error
		if all, err = b.lacking(tip, b.Landscape.Staged()); err != nil {
			return nil, err
		}
	}
	var out []Work
	seen := map[ledger.ID]bool{}
	for _, w := range all {
		where, err := b.Landscape.Manifest.Environment(w.Where)
		if root := b.Arrived.Root(w.ID); err == nil && where.Tier == manifest.Live && !w.Merged && !seen[root] {
			seen[root] = true
			out = append(out, w)
		}
	}
	return out, nil
}

// lacking lists the work that environments hold and a commit does not stand on, each once.
func (b *Book) lacking(at ledger.Commit, later []manifest.Environment) ([]Work, error) {
	later = slices.DeleteFunc(slices.Clone(later), func(e manifest.Environment) bool { _, ok := b.Standing[e.Name]; return !ok })
	missing, err := b.Arrived.MissingOf(at, b.held(later))
	if err != nil {
		return nil, err
	}
	out := make([]Work, 0, len(missing))
	for _, c := range missing {
		w := Work{Commit: c, First: b.Arrived.First(c)}
		for _, e := range later {
			if !b.Arrived.Has(b.Standing[e.Name], c) {
				continue
			}
			if w.Where == "" || b.later(e.Name, w.Where) {
				w.Where = e.Name
			}
		}
		if w.Where == "" {
			continue
		}
		if w.Since, err = b.sinceWhen(w.Where, c); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// later reports whether one environment comes after another, by tier.
func (b *Book) later(name, than string) bool {
	x, err1 := b.Landscape.Manifest.Environment(name)
	y, err2 := b.Landscape.Manifest.Environment(than)
	return err1 == nil && err2 == nil && x.Tier.Rank() > y.Tier.Rank()
}

// sinceWhen gives the time from which on an environment has had a work without a break.
func (b *Book) sinceWhen(environment string, c ledger.Commit) (time.Time, error) {
	key := sinceKey{environment, c.ID}
	if t, ok := b.since[key]; ok {
		return t, nil
	}
	list := b.Deployed[environment]
	at := list[len(list)-1].Time
	for _, d := range slices.Backward(list[:len(list)-1]) {
		held, err := b.commit(d.Commit)
		if err != nil {
			return at, err
		}
		if !b.Arrived.Has(held, c) {
			break
		}
		at = d.Time
	}
	b.since[key] = at
	return at, nil
}

// Since gives the time from which on an environment has had a work that it has, without a break.
func (b *Book) Since(environment string, c ledger.Commit) (time.Time, error) {
	if held, ok := b.Standing[environment]; !ok || !b.Arrived.Has(held, c) {
		return c.Time, nil // it was committed there
	}
	return b.sinceWhen(environment, c)
}

// TakenBack reports whether a work was taken back from an environment.
func (b *Book) TakenBack(environment string, c ledger.Commit) bool {
	return b.absent[environment][b.Arrived.Root(c.ID)]
}

// HeldBy narrows work to what one environment holds.
func (b *Book) HeldBy(works []Work, environment string) []Work {
	standing, ok := b.Standing[environment]
	if !ok {
		return nil
	}
	var out []Work
	for _, w := range works {
		if b.Arrived.Has(standing, w.Commit) {
			out = append(out, w)
		}
	}
	return out
}
