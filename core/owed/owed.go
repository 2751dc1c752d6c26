// Package owed keeps the list that nobody keeps by hand: what has reached a later
// environment and has not come back to an earlier one. It is computed anew each time, from
// what environments hold and from the graph of commits (package arrival), so nothing has
// to be ticked off.
package owed

import (
	"context"
	"slices"
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
}

// Work is a commit that a later environment has.
type Work struct {
	ledger.Commit
	// Where is the latest environment that has it, Since when it first came to a later
	// one than where it is owed.
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

	tx      *ledger.Tx
	tips    map[string]ledger.Commit
	commits map[ledger.ID]ledger.Commit
	since   map[sinceKey]time.Time
}

type sinceKey struct {
	environment string
	work        ledger.ID
}

// View lets fn read a book of what a chest's environments hold and are owed.
func View(ctx context.Context, c *chest.Chest, l *landscape.Landscape, fn func(*Book) error) error {
	return chest.Explain(c.Ledger.View(ctx, func(tx *ledger.Tx) error {
		r, err := arrival.Open(tx)
		if err != nil {
			return err
		}
		b, err := Open(tx, r, l)
		if err != nil {
			return err
		}
		return fn(b)
	}))
}

// Open reads what environments hold.
func Open(tx *ledger.Tx, r *arrival.Reader, l *landscape.Landscape) (*Book, error) {
	b := &Book{Landscape: l, Standing: map[string]ledger.Commit{}, Deployed: map[string][]ledger.Deployment{}, tx: tx, Arrived: r, tips: map[string]ledger.Commit{}, commits: map[ledger.ID]ledger.Commit{}, since: map[sinceKey]time.Time{}}
	all, err := tx.Deployments("")
	if err != nil {
		return nil, err
	}
	undone, err := tx.AllUndone()
	if err != nil {
		return nil, err
	}
	for _, d := range slices.Backward(all) { // the oldest first
		if _, is := undone[d.Number]; !is {
			b.Deployed[d.Environment] = append(b.Deployed[d.Environment], d)
		}
	}
	for name, list := range b.Deployed {
		if b.Standing[name], err = b.commit(list[len(list)-1].Commit); err != nil {
			return nil, err
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

// All gives what every environment of the pipeline is owed, those that are owed nothing
// left out.
func (b *Book) All() ([]Debt, error) {
	var out []Debt
	for _, e := range b.Landscape.Staged() {
		d, err := b.To(e)
		if err != nil {
			return nil, err
		}
		if len(d.Works) > 0 {
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
	d.Works = works
	tip := b.tips[b.Landscape.Manifest.BranchOf(e)]
	if tip.Depth == 0 || tip.ID == has.ID {
		return d, nil
	}
	missing, err := b.Arrived.MissingOf(tip, b.held(b.Landscape.Later(e.Name)))
	if err != nil {
		return d, err
	}
	open := make(map[ledger.ID]bool, len(missing))
	for _, c := range missing {
		open[b.Arrived.Root(c.ID)] = true
	}
	for i := range d.Works {
		d.Works[i].Merged = !open[b.Arrived.Root(d.Works[i].ID)]
	}
	return d, nil
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

// OfLive gives what the branch of a lane lacks of what its live environments hold.
func (b *Book) OfLive(lane manifest.Lane) ([]Work, error) {
	tip, ok := b.tips[lane.Branch]
	if !ok {
		return nil, nil
	}
	var live []manifest.Environment
	for _, member := range b.Landscape.Members(lane.Name) {
		for _, e := range b.Landscape.Later(member.Name) {
			if e.Tier == manifest.Live && !slices.ContainsFunc(live, func(o manifest.Environment) bool { return o.Name == e.Name }) {
				live = append(live, e)
			}
		}
	}
	return b.lacking(tip, live)
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
		w := Work{Commit: c}
		for _, e := range later {
			if !b.Arrived.Has(b.Standing[e.Name], c) {
				continue
			}
			since, err := b.sinceWhen(e.Name, c)
			if err != nil {
				return nil, err
			}
			if w.Since.IsZero() || since.Before(w.Since) {
				w.Since = since
			}
			if w.Where == "" || b.later(e.Name, w.Where) {
				w.Where = e.Name
			}
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
