package pipeline

import (
	"context"
	"path"
	"slices"
	"strings"
	"unicode"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Need is work that chosen work depends on, and that is not chosen itself.
type Need struct {
	ledger.Commit
	// For is the chosen commit that needs it, What the element of its own that is needed,
	// How says how: uses, edits, lies in.
	For  ledger.Commit
	What element.Address
	How  string
}

// chooseWork takes in only some work: each chosen commit is done again on the branch of
// To, in their order.
func (m *Mover) chooseWork(ctx context.Context, p *Promotion, o PromoteOptions) error {
	if (p.Branch == "" || p.shared) && m.allFits(ctx, p, o) {
		p.Chosen = p.Moving
		return m.allWork(ctx, p)
	}
	if p.Branch == "" || p.shared {
		return fault.New(fault.Refused, "Give it a branch of its own: branch = \""+p.To.Name+"\" in oaken.toml.",
			"%s takes its work from the same branch as %s, so all of it moves or nothing.", p.To.Name, p.From.Name)
	}
	if p.fresh {
		return fault.New(fault.Refused, "Promote everything once, without --item and paths.",
			"%s holds nothing yet that some work could be added to.", p.To.Name)
	}
	chosen, err := m.fitting(ctx, p.open, o)
	if err != nil {
		return err
	}
	p.Chosen = chosen
	if p.Needs, err = m.needs(ctx, p); err != nil {
		return err
	}
	take := slices.Clone(chosen)
	if o.WithNeeded {
		for _, n := range p.Needs {
			take = append(take, n.Commit)
		}
		slices.SortFunc(take, ledger.Older)
	}
	p.Moving = append(slices.Clone(p.Waiting), take...)
	slices.SortFunc(p.Moving, ledger.Older)
	if len(p.Needs) > 0 && !o.WithNeeded {
		return nil
	}
	return m.pick(ctx, p, take)
}

// allFits reports whether all that moves is of what was chosen.
func (m *Mover) allFits(ctx context.Context, p *Promotion, o PromoteOptions) bool {
	chosen, err := m.fitting(ctx, p.Moving, o)
	return err == nil && len(chosen) > 0 && len(chosen) == len(p.Moving)
}

// fitting lists the commits for an item, or that touch paths.
func (m *Mover) fitting(ctx context.Context, list []ledger.Commit, o PromoteOptions) ([]ledger.Commit, error) {
	var out []ledger.Commit
	for _, c := range list {
		if o.Item != "" && c.Item != o.Item || len(o.Items) > 0 && !slices.Contains(o.Items, c.Item) {
			continue
		}
		if len(o.Paths) > 0 {
			pairs, err := m.Project.Did(ctx, c)
			if err != nil {
				return nil, err
			}
			if !slices.ContainsFunc(pairs, func(x chest.Pair) bool { return state.Under(o.Paths, x.Path) }) {
				continue
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// pick makes the commits that bring chosen work to the branch of To.
func (m *Mover) pick(ctx context.Context, p *Promotion, take []ledger.Commit) error {
	p.tree, p.take = p.onto.Tree, take
	told := 0
	for _, c := range take {
		b, err := m.Project.BlendOne(ctx, p.tree, c, p.choices.settle)
		if err != nil {
			return err
		}
		p.Conflicts = append(p.Conflicts, b.Merged.Conflicts...)
		p.tree, p.Settled = b.Tree, p.choices.counted()
		message := c.Message
		if len(p.Settled) > told {
			message += settledText(p.Settled[told:])
			told = len(p.Settled)
		}
		p.drafts = append(p.drafts, chest.Draft{Branch: p.Branch, Tip: p.onto.ID, Tree: b.Tree, Author: c.Author, Workspace: m.Project.Name,
			Time: m.Now(), Message: message, Item: c.Item, Picks: c.ID})
	}
	return nil
}

// needs finds the work that chosen work depends on, and in turn what that depends on.
func (m *Mover) needs(ctx context.Context, p *Promotion) ([]Need, error) {
	deeds := map[ledger.ID]*deedOf{}
	read := func(c ledger.Commit) (*deedOf, error) {
		if d, ok := deeds[c.ID]; ok {
			return d, nil
		}
		d, err := m.readDeed(ctx, c)
		deeds[c.ID] = d
		return d, err
	}
	taken := map[ledger.ID]bool{}
	for _, c := range p.Chosen {
		taken[c.ID] = true
	}
	var out []Need
	for waiting := slices.Clone(p.Chosen); len(waiting) > 0; waiting = waiting[1:] {
		c := waiting[0]
		wants, err := read(c)
		if err != nil {
			return nil, err
		}
		for _, other := range p.open {
			if taken[other.ID] {
				continue
			}
			gives, err := read(other)
			if err != nil {
				return nil, err
			}
			if what, how, ok := wants.needs(gives); ok {
				taken[other.ID] = true
				out = append(out, Need{Commit: other, For: c, What: what, How: how})
				waiting = append(waiting, other)
			}
		}
	}
	slices.SortFunc(out, func(a, b Need) int { return ledger.Older(a.Commit, b.Commit) })
	return out, nil
}

// deedOf is what a commit did, as far as others can depend on it.
type deedOf struct {
	added   []element.Address // what it brought
	touched []element.Address // what it changed of what was there
	words   map[string]bool   // the names that its new texts use
	files   map[string]bool   // files that it wrote
}

// readDeed reads what a commit did, element by element.
func (m *Mover) readDeed(ctx context.Context, c ledger.Commit) (*deedOf, error) {
	w := m.Project
	is := w.CommitState(c, label(c))
	before, err := w.Before(ctx, c)
	if err != nil {
		return nil, err
	}
	diffs, err := w.Reader().Compare(ctx, before, is, nil)
	if err != nil {
		return nil, err
	}
	d := &deedOf{words: map[string]bool{}, files: map[string]bool{}}
	for _, x := range diffs {
		d.files[x.Path] = true
		for _, ch := range x.Changes {
			d.note(ch)
			if ch.Address.Whole() && ch.Kind == element.Added { // its names are inside
				if art, err := w.Reader().Read(ctx, is, x.Path); err == nil {
					d.inside(art.Reading.Root, element.Address{Path: x.Path})
				}
			}
		}
	}
	return d, nil
}

func (d *deedOf) note(ch element.Change) {
	switch ch.Kind {
	case element.Added:
		d.added = append(d.added, ch.Address)
	case element.Renamed:
		d.added = append(d.added, ch.Address)
		d.touched = append(d.touched, ch.Address)
	default:
		d.touched = append(d.touched, ch.Address)
	}
	d.read(ch.To)
	if ch.Element != nil && ch.Kind == element.Added {
		d.texts(ch.Element)
	}
}

// inside notes what a new artifact consists of.
func (d *deedOf) inside(e *element.Element, at element.Address) {
	for _, k := range e.Children {
		if k.Key == "" {
			d.texts(k)
			continue
		}
		here := at.Below(element.Step{Type: k.Type, Key: k.Key})
		d.added = append(d.added, here)
		for _, p := range k.Props {
			d.read(p.Value)
		}
		d.inside(k, here)
	}
}

// texts reads the texts of an element and of all below it.
func (d *deedOf) texts(e *element.Element) {
	for _, p := range e.Props {
		d.read(p.Value)
	}
	for _, k := range e.Children {
		d.texts(k)
	}
}

// read notes the names in a text.
func (d *deedOf) read(v element.Value) {
	if v.Sort() != element.Text && v.Sort() != element.List {
		return
	}
	for _, word := range strings.FieldsFunc(v.String(), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("_-./", r)
	}) {
		d.words[strings.ToLower(word)] = true
		for _, part := range strings.FieldsFunc(word, func(r rune) bool { return strings.ContainsRune("./", r) }) {
			d.words[strings.ToLower(part)] = true
		}
	}
}

// leastName is the least number of letters in a name that is looked for in texts: shorter
// ones stand in them by chance.
const leastName = 3

// needs tells whether this work can't be without other work: it changes or fills what that
// brought, or its texts name it.
func (d *deedOf) needs(other *deedOf) (what element.Address, how string, ok bool) {
	for _, a := range other.added {
		for _, t := range d.touched {
			if within(t, a) {
				return a, "edits", true
			}
		}
		for _, t := range d.added {
			if within(t, a) && !samePlace(t, a) {
				return a, "lies in", true
			}
		}
	}
	for _, a := range other.added {
		if d.names(a) {
			return a, "uses", true
		}
	}
	return what, "", false
}

// within reports whether an address is another, or lies below it.
func within(a, above element.Address) bool {
	if a.Path != above.Path {
		return above.Whole() && strings.HasPrefix(a.Path, above.Path+"/")
	}
	return len(a.Steps) >= len(above.Steps) && slices.Equal(a.Steps[:len(above.Steps)], above.Steps) &&
		(above.Property == "" || len(a.Steps) > len(above.Steps) || a.Property == above.Property)
}

func samePlace(a, b element.Address) bool { return a.Path == b.Path && slices.Equal(a.Steps, b.Steps) }

// names reports whether the texts name an element: its key, and those of the elements that
// it lies in, or a part of them that can only be meant so.
func (d *deedOf) names(a element.Address) bool {
	if a.Whole() {
		name := strings.ToLower(path.Base(a.Path))
		return d.words[name] && len(name) >= leastName
	}
	for i, s := range a.Steps {
		key := strings.ToLower(s.Key)
		if len(key) < leastName || !d.words[key] && (i == len(a.Steps)-1 || !d.touches(a.Steps[:i+1], a.Path)) {
			return false
		}
	}
	return true
}

// touches reports whether this work is about an element, or about something in it.
func (d *deedOf) touches(steps []element.Step, p string) bool {
	at := element.Address{Path: p, Steps: steps}
	return slices.ContainsFunc(d.touched, func(t element.Address) bool { return within(t, at) }) ||
		slices.ContainsFunc(d.added, func(t element.Address) bool { return within(t, at) })
}

// missingNeeds refuses chosen work that other work is needed for.
func missingNeeds(p *Promotion) error {
	n := p.Needs[0]
	more := ""
	if len(p.Needs) > 1 {
		more = " (and more)"
	}
	return fault.New(fault.Refused, "Take along what it needs with --with-needed; a dry run lists it all.", "%s %s %s, which %s brings%s.",
		label(n.For), n.How, n.What, label(n.Commit), more)
}
