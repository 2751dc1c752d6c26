package pipeline

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/lookalike"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/state"
)

// Lookalike is a pair that seems to be one thing.
type Lookalike struct {
	lookalike.Pair
	// Distinct says that people have marked the two as different things; nil when nobody has.
	Distinct *ledger.Distinct
}

// Lookalikes finds elements that different lanes have added since what is live, and that
// seem to be one thing under two names. Pairs that are marked as distinct come with all
// alone.
func (m *Mover) Lookalikes(ctx context.Context, least float64, all bool) ([]Lookalike, error) {
	things, err := m.addedByLanes(ctx)
	if err != nil {
		return nil, err
	}
	marks, err := m.Project.Chest.Distincts(ctx)
	if err != nil {
		return nil, err
	}
	var out []Lookalike
	for _, p := range lookalike.Find(things, least) {
		x := Lookalike{Pair: p}
		one, other := sorted(p.One.Address, p.Other.Address)
		for _, d := range marks {
			if d.One == one && d.Other == other {
				x.Distinct = &d
			}
		}
		if x.Distinct == nil || all {
			out = append(out, x)
		}
	}
	return out, nil
}

func sorted(a, b string) (string, string) { return min(a, b), max(a, b) }

// MarkDistinct records that two elements are different things, or, with withdraw, that
// they may be one.
func (m *Mover) MarkDistinct(ctx context.Context, one, other, reason string, withdraw bool) error {
	for _, text := range []string{one, other} {
		if a, err := element.ParseAddress(text); err != nil || len(a.Steps) == 0 {
			return fault.New(fault.Usage, "Write it as oaken lookalikes does: PATH::type:key.", "%q is no address of an element.", text)
		}
	}
	if one == other {
		return fault.New(fault.Usage, "Name the two that look alike.", "Both addresses are %s.", one)
	}
	x, y := sorted(one, other)
	if withdraw {
		return m.Project.Chest.UnmarkDistinct(ctx, x, y)
	}
	return m.Project.Chest.MarkDistinct(ctx, ledger.Distinct{One: x, Other: y, Person: m.Project.Person, Time: m.Now(), Reason: reason})
}

// silentTypes are sorts of elements that are no things of their own.
var silentTypes = []string{"line", "row", "file", "index", "constraint", "foreign key", "unique", "check", "primary key"}

// mostThings bounds how many added elements of a lane are looked at.
const mostThings = 3000

// addedByLanes lists what each lane has added and is still there.
func (m *Mover) addedByLanes(ctx context.Context) ([]lookalike.Thing, error) {
	l := m.rules(ctx)
	var out []lookalike.Thing
	for _, lane := range l.Manifest.Pipeline.Lanes {
		tip, work, err := m.unreleased(ctx, l, lane)
		if err != nil {
			return nil, err
		}
		if len(work) == 0 {
			continue
		}
		a := &adder{m: m, lane: lane.Name, now: m.Project.CommitState(tip, lane.Branch), roots: map[string]*element.Element{},
			seen: map[string]bool{}}
		for _, c := range work {
			if err := a.commit(ctx, c); err != nil {
				return nil, err
			}
		}
		out = append(out, a.things...)
	}
	return out, nil
}

// unreleased lists the work of a lane that is not live: what its branch has, however that
// came there, but for the work of other lanes and of stages that all share.
func (m *Mover) unreleased(ctx context.Context, l *landscape.Landscape, lane manifest.Lane) (tip ledger.Commit,
	work []ledger.Commit, err error) {
	err = owed.View(ctx, m.Project.Chest, l, func(b *owed.Book) error {
		tip = b.Tip(lane.Branch)
		var live ledger.Commit
		for _, e := range l.Staged() {
			if e.Tier == manifest.Live && b.Standing[e.Name].Generation > live.Generation {
				live = b.Standing[e.Name]
			}
		}
		missing, err := b.Arrived.Missing(live, tip)
		work = slices.DeleteFunc(slices.Clone(missing), func(c ledger.Commit) bool {
			of := l.LaneOf(c.Branch)
			return of != lane.Name && (of != "" || l.Shared(c.Branch))
		})
		return err
	})
	return tip, work, err
}

// adder gathers what one lane has added.
type adder struct {
	m      *Mover
	lane   string
	now    state.State
	roots  map[string]*element.Element // what artifacts are now, by path; nil for gone
	seen   map[string]bool
	things []lookalike.Thing
}

// commit notes what one commit added.
func (a *adder) commit(ctx context.Context, c ledger.Commit) error {
	w := a.m.Project
	before, err := w.Before(ctx, c)
	if err != nil {
		return err
	}
	diffs, err := w.Reader().Compare(ctx, before, w.CommitState(c, label(c)), nil)
	if err != nil {
		return err
	}
	for _, d := range diffs {
		for _, ch := range d.Changes {
			if ch.Kind != element.Added && ch.Kind != element.Renamed {
				continue
			}
			root, err := a.root(ctx, d.Path)
			if err != nil {
				return err
			}
			if root == nil {
				continue
			}
			if e := root.Find(ch.Address.Steps); e != nil {
				a.add(ch.Address, root, e)
			}
		}
	}
	return nil
}

// root reads what an artifact is now.
func (a *adder) root(ctx context.Context, p string) (*element.Element, error) {
	if root, ok := a.roots[p]; ok {
		return root, nil
	}
	art, err := a.m.Project.Reader().Read(ctx, a.now, p)
	if err != nil {
		a.roots[p] = nil // it is gone, or can't be read
		return nil, nil
	}
	a.roots[p] = art.Reading.Root
	return art.Reading.Root, nil
}

// add notes an element, and what came inside of it.
func (a *adder) add(at element.Address, root, e *element.Element) {
	if len(a.things) >= mostThings {
		return
	}
	text := at.String()
	if e.Key != "" && len(at.Steps) > 0 && !a.seen[text] && !slices.Contains(silentTypes, e.Type) {
		a.seen[text] = true
		a.things = append(a.things, a.thing(at, root, e))
	}
	for _, k := range e.Children {
		if k.Key != "" {
			a.add(at.Below(element.Step{Type: k.Type, Key: k.Key}), root, k)
		}
	}
}

// holdingProps are the properties that say what sort of value an element has.
var holdingProps = []string{"type", "datatype", "data type", "control", "format"}

// thing describes an element for the comparison.
func (a *adder) thing(at element.Address, root, e *element.Element) lookalike.Thing {
	t := lookalike.Thing{Lane: a.lane, Address: at.String(), Type: e.Type, Key: e.Key}
	for _, name := range holdingProps {
		if v := e.Prop(name); !v.IsAbsent() {
			t.Holds = v.String()
			break
		}
	}
	parent := root
	for _, s := range at.Steps[:len(at.Steps)-1] {
		t.Within = append(t.Within, s.Key)
	}
	if p := root.Find(at.Steps[:len(at.Steps)-1]); p != nil {
		parent = p
	}
	for _, k := range parent.Children {
		if k.Type == e.Type && k.Key != e.Key && k.Key != "" {
			t.Beside = append(t.Beside, k.Key)
		}
	}
	t.Users = users(root, e.Key)
	return t
}

// users lists the names of elements in an artifact whose texts use a name.
func users(root *element.Element, name string) []string {
	var out []string
	var walk func(e *element.Element, top string)
	walk = func(e *element.Element, top string) {
		for _, p := range e.Props {
			if p.Value.Sort() == element.Text && e.Key != name && containsWord(p.Value.String(), name) && top != "" &&
				!slices.Contains(out, top) {
				out = append(out, top)
			}
		}
		for _, k := range e.Children {
			inside := top
			if k.Key != "" {
				inside = k.Key
			}
			walk(k, inside)
		}
	}
	walk(root, "")
	return out
}

// containsWord reports whether a name stands in a text as a word of its own.
func containsWord(text, name string) bool {
	is := func(r byte) bool {
		return r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
	}
	for at := 0; ; {
		i := strings.Index(text[at:], name)
		if i < 0 || name == "" {
			return false
		}
		i += at
		end := i + len(name)
		if (i == 0 || !is(text[i-1])) && (end == len(text) || !is(text[end])) {
			return true
		}
		at = end
	}
}
