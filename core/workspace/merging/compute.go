package merging

import (
	"context"
	"slices"

	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Onto describes the merge of a commit into another one, whose files are those of a
// tree; nil when there is nothing to merge.
func (w *Work) Onto(ctx context.Context, onto ledger.Commit, tree content.Digest, theirs ledger.Commit) (*Pending, error) {
	g, err := w.Ground(ctx, onto, theirs)
	if err != nil || g.All(theirs) {
		return nil, err
	}
	if len(g.Conflicts) > 0 {
		return nil, fault.New(fault.Conflict, "Bring one of the two branches to what the other has of it first, by a commit.",
			"What %s took back can't be told from what came since, at %s.", project.Label(g.Apart[0]), g.Conflicts[0].Address)
	}
	p := &Pending{Mine: disk.Hex(tree), Theirs: disk.Hex(theirs.Tree), Parent: theirs.ID.String()}
	p.Stand(g)
	return p, nil
}

// Compute merges with the choices that were made so far.
func (w *Work) Compute(ctx context.Context, p *Pending) (*state.Merged, error) {
	base, mine, theirs, err := w.States(p)
	if err != nil {
		return nil, err
	}
	if len(p.Bases) > 0 {
		commits, err := w.CommitsBy(ctx, p.Bases)
		if err != nil {
			return nil, err
		}
		if base, err = w.Joined(ctx, commits); err != nil {
			return nil, err
		}
	}
	if len(p.Apart) > 0 {
		if base, err = w.WithoutTaken(ctx, base, p.Apart); err != nil {
			return nil, err
		}
	}
	choices := map[string]element.Choice{}
	for _, s := range p.Settled {
		choices[s.Address] = s.Choice()
	}
	return w.Reader().Merge(ctx, base, mine, theirs, func(c element.Conflict) (element.Choice, bool) {
		if slices.Contains(p.AsIs, c.Address.Path) {
			return element.Choice{Keep: element.KeepMine}, true
		}
		choice, ok := choices[c.Address.String()]
		return choice, ok
	})
}
