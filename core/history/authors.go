package history

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Authorship says which commit gave an element what it is now.
type Authorship struct {
	Address element.Address
	Element *element.Element
	Commit  ledger.Commit
}

// Authors gives, for each element of an artifact at a tip, the newest commit
// that changed its own properties or brought it in, in the order of the tree.
func Authors(ctx context.Context, c *chest.Chest, r *state.Reader, tip ledger.Commit, path string) ([]Authorship, error) {
	entries, _, err := List(ctx, c, tip, Query{Path: path})
	if err != nil {
		return nil, err
	}
	if len(entries) == 0 {
		return nil, fault.New(fault.Usage, "Paths are those of the project; oaken history lists its commits.", "No commit holds %s.", path)
	}
	newest, err := r.Read(ctx, entries[0].state(c), entries[0].Path)
	if err != nil {
		return nil, fault.New(fault.Usage, "It may be gone: oaken history "+fault.Word(path)+" says when.", "%s holds no %s.",
			"The newest commit", path)
	}
	a := &attribution{owner: map[*element.Element]ledger.Commit{}, pending: map[*element.Element]*element.Element{}}
	a.await(newest.Reading.Root)
	later := newest.Reading.Root
	for i, e := range entries {
		if err := ctx.Err(); err != nil || len(a.pending) == 0 {
			if err != nil {
				return nil, err
			}
			break
		}
		var earlier *element.Element
		if i+1 < len(entries) {
			before, err := r.Read(ctx, entries[i+1].state(c), entries[i+1].Path)
			if err == nil && before.Kind.Name() == newest.Kind.Name() {
				earlier = before.Reading.Root
			}
		}
		a.settle(earlier, later, e.Commit)
		if earlier == nil {
			break
		}
		later = earlier
	}
	return a.list(newest.Reading.Root, element.Address{Path: path}, nil), nil
}

// attribution gives elements of the newest version to commits. pending maps an
// element of the version that is looked at to the newest version's.
type attribution struct {
	owner   map[*element.Element]ledger.Commit
	pending map[*element.Element]*element.Element
}

func (a *attribution) await(e *element.Element) {
	a.pending[e] = e
	for _, k := range e.Children {
		a.await(k)
	}
}

// settle gives to a commit what it brought: pending elements that the earlier
// version does not have alike. The others wait on, as elements of that version.
func (a *attribution) settle(earlier, later *element.Element, c ledger.Commit) {
	next := map[*element.Element]*element.Element{}
	if earlier != nil {
		a.follow(earlier, later, element.Compare(earlier, later), next)
	}
	kept := map[*element.Element]bool{}
	for _, newest := range next {
		kept[newest] = true
	}
	for _, newest := range a.pending {
		if !kept[newest] {
			a.owner[newest] = c
		}
	}
	a.pending = next
}

// follow pairs the elements of two versions that are alike in themselves.
func (a *attribution) follow(was, is *element.Element, d *element.Delta, next map[*element.Element]*element.Element) {
	newest, waits := a.pending[is]
	if waits && (d == nil || len(d.Props) == 0) && was.Key == is.Key {
		next[was] = newest
	}
	if d == nil || len(d.Kids) == 0 {
		a.parallel(was, is, next)
		return
	}
	for _, k := range d.Kids {
		if k.From >= 0 && k.To >= 0 {
			a.follow(d.A.Children[k.From], d.B.Children[k.To], k.Delta, next)
		}
	}
}

// parallel pairs the children of two elements whose children are equal; those
// of a set may stand in another order.
func (a *attribution) parallel(was, is *element.Element, next map[*element.Element]*element.Element) {
	at := map[element.Step]*element.Element{}
	for i, s := range was.Steps() {
		at[s] = was.Children[i]
	}
	for i, s := range is.Steps() {
		if before := at[s]; before != nil {
			a.follow(before, is.Children[i], nil, next)
		}
	}
}

func (a *attribution) list(e *element.Element, at element.Address, out []Authorship) []Authorship {
	steps := e.Steps()
	for i, k := range e.Children {
		below := at.Below(steps[i])
		out = append(out, Authorship{below, k, a.owner[k]})
		out = a.list(k, below, out)
	}
	return out
}
