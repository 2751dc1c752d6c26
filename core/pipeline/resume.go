package pipeline

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// resumeGate is shut when, after a deployment that did not end, the target holds what is
// neither as it was before nor as it is to be: somebody has changed it since.
func (m *Mover) resumeGate(ctx context.Context, p *Promotion, add func(name, said, do string)) error {
	foreign, err := m.foreign(ctx, p)
	if err != nil {
		return err
	}
	if len(foreign) == 0 {
		add(GateDrift, p.To.Name+" is between what it was and what it is to be", "")
		return nil
	}
	add(GateDrift, fmt.Sprintf("a deployment to %s did not end, and %s there is neither as it was nor as it is to be", p.To.Name,
		foreign[0]), "Look at it with oaken drift "+fault.Word(p.To.Name)+"; oaken rollback "+fault.Word(p.To.Name)+
		" takes that deployment back.")
	return nil
}

// foreign lists the files that the target of a promotion holds otherwise than before the
// deployment that did not end, and than they are to be.
func (m *Mover) foreign(ctx context.Context, p *Promotion) ([]string, error) {
	kept, err := m.Project.Chest.KeptSince(ctx, p.To.Name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(kept, func(k ledger.Kept) bool { return k.ID == p.Deployment.unfinished[len(p.Deployment.unfinished)-1] })
	if i < 0 {
		return nil, nil
	}
	before, _, err := m.kept(kept[i], p.To)
	if err != nil {
		return nil, err
	}
	ways := []environment.Files{before}
	for _, tree := range append(slices.Clone(p.tried), p.tree) {
		files, err := holding(ctx, m.Project.TreeState(tree, "what is to be"), p.To)
		if err != nil {
			return nil, err
		}
		ways = append(ways, files)
	}
	all := map[string]bool{}
	there := make([]environment.Files, len(ways))
	for i, way := range ways {
		got, err := p.Deployment.driver.Capture(ctx, way) // what means the same is in the words of that way
		if errors.Is(err, environment.ErrMissing) {       // it was stopped before it had made the target
			got, err = &environment.Captured{Files: environment.Files{}}, nil
		}
		if err != nil {
			return nil, err
		}
		there[i] = got.Files
		for _, files := range []environment.Files{way, got.Files} {
			for name := range files {
				all[name] = true
			}
		}
	}
	var out []string
	for name := range all {
		explained := false
		for i, way := range ways {
			is, has := there[i][name]
			want, wanted := way[name]
			explained = explained || has == wanted && bytes.Equal(is, want)
		}
		if !explained {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	if len(out) == 0 {
		return nil, nil
	}
	return m.halfway(ctx, p, out, before, there[0], ways[len(ways)-1])
}

// halfway leaves out of files those that an engine without transactions left half done:
// whatever differs there from before is on its way to what is to be.
func (m *Mover) halfway(ctx context.Context, p *Promotion, names []string, before, now, target environment.Files) ([]string, error) {
	r := m.Project.Reader()
	was := heldState(p.To, before)
	done, err := r.Compare(ctx, was, heldState(p.To, now), p.To.Folders())
	if err != nil {
		return nil, err
	}
	wanted, err := r.Compare(ctx, was, heldState(p.To, target), p.To.Folders())
	if err != nil {
		return nil, err
	}
	var goals []element.Change
	for _, d := range wanted {
		goals = append(goals, d.Changes...)
	}
	for _, d := range done {
		for _, c := range d.Changes {
			onTheWay := slices.ContainsFunc(goals, func(g element.Change) bool {
				return c.Kind == g.Kind && c.Address.String() == g.Address.String() && c.To.Equal(g.To) || c.Kind == element.Removed &&
					within(g.Address, c.Address)
			})
			if !onTheWay {
				return names, nil
			}
		}
	}
	return nil, nil
}
