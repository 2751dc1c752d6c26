package history

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Occurrence is a text that was found in some commits, from one to another.
type Occurrence struct {
	state.Hit
	// Came is the commit that brought it.
	Came ledger.Commit
	// Went is the commit that took it away, nil when it is still there.
	Went *ledger.Commit
}

// Find looks for a text through the history of a branch, from the first commit
// to the tip along first parents: what a merge brought counts as its. found is
// called for each occurrence, those that have gone first; false stops.
func Find(ctx context.Context, c *chest.Chest, r *state.Reader, tip ledger.Commit, text string, paths []string,
	found func(Occurrence) bool) error {
	line, err := firstParents(ctx, c, tip)
	if err != nil {
		return err
	}
	f := &finder{chest: c, reader: r, text: text, open: map[string][]Occurrence{}}
	for i, commit := range line {
		var before ledger.Commit
		if i > 0 {
			before = line[i-1]
		}
		pairs, err := c.Diff(before.Tree, commit.Tree)
		if err != nil {
			return chest.Explain(err)
		}
		looked := map[string]bool{}
		for _, p := range pairs {
			unit := r.Unit(p.Path)
			if looked[unit] || !state.Under(paths, p.Path) && !state.Under(paths, unit) {
				continue
			}
			looked[unit] = true
			if more, err := f.artifact(ctx, commit, unit, found); err != nil || !more {
				return err
			}
		}
	}
	return f.rest(found)
}

// firstParents gives the commits from the first to a tip along first parents.
func firstParents(ctx context.Context, c *chest.Chest, tip ledger.Commit) ([]ledger.Commit, error) {
	var out []ledger.Commit
	err := c.View(ctx, func(tx ledger.Records) error {
		for at := tip; at.ID != (ledger.ID{}); {
			out = append(out, at)
			if len(at.Parents) == 0 {
				break
			}
			var err error
			if at, err = tx.Commit(at.Parents[0]); err != nil {
				return err
			}
		}
		return ctx.Err()
	})
	slices.Reverse(out)
	return out, chest.Explain(err)
}

// finder holds the occurrences that are there, by artifact, in the order of
// their artifacts' first.
type finder struct {
	chest  *chest.Chest
	reader *state.Reader
	text   string
	open   map[string][]Occurrence
	order  []string
}

// artifact looks into an artifact that a commit changed.
func (f *finder) artifact(ctx context.Context, commit ledger.Commit, unit string, found func(Occurrence) bool) (more bool, err error) {
	var hits []state.Hit
	at := state.Commit{Chest: f.chest, Tree: commit.Tree, Name: commit.Branch}
	if err := f.reader.FindIn(ctx, at, unit, f.text, func(h state.Hit) bool { hits = append(hits, h); return true }); err != nil {
		return false, err
	}
	before := f.open[unit]
	if _, known := f.open[unit]; !known {
		f.order = append(f.order, unit)
	}
	waiting := map[mark][]Occurrence{}
	for _, o := range before {
		k := markOf(o.Hit)
		waiting[k] = append(waiting[k], o)
	}
	after := make([]Occurrence, 0, len(hits))
	for _, h := range hits {
		k, came := markOf(h), commit
		if list := waiting[k]; len(list) > 0 {
			came, waiting[k] = list[0].Came, list[1:]
		}
		after = append(after, Occurrence{Hit: h, Came: came})
	}
	for _, o := range before {
		k := markOf(o.Hit)
		if list := waiting[k]; len(list) == 0 || list[0].Address.String() != o.Address.String() {
			continue
		}
		waiting[k] = waiting[k][1:]
		o.Went = &commit
		if !found(o) {
			return false, nil
		}
	}
	f.open[unit] = after
	return true, nil
}

// mark is what makes a place the same in two versions: elements without a key
// are told by their value alone, wherever they have moved to.
type mark struct{ address, value string }

func markOf(h state.Hit) mark {
	steps := slices.Clone(h.Address.Steps)
	for i := range steps {
		if steps[i].Ordinal > 0 {
			steps[i].Ordinal = 1
		}
	}
	h.Address.Steps = steps
	if h.Address.Property == "" { // found by its key; the value is only how it looks
		h.Value = ""
	}
	return mark{h.Address.String(), h.Value}
}

// rest gives what is there at the end.
func (f *finder) rest(found func(Occurrence) bool) error {
	for _, unit := range f.order {
		for _, o := range f.open[unit] {
			if !found(o) {
				return nil
			}
		}
	}
	return nil
}
