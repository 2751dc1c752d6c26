package pipeline

import (
	"context"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Behind is an environment that lacks work of its branch.
type Behind struct {
	Environment manifest.Environment
	Branch      string
	// Lacks lists the work that changed something in its folders, the oldest first.
	Lacks []ledger.Commit
}

// WhoIsBehind lists the environments that are known to hold something, and lack work of
// their branch: the one that they declare, or, for those that no move leads to, the
// workspace's. With branch only those of that one are looked at; empty means all.
func (m *Mover) WhoIsBehind(ctx context.Context, branch string) ([]Behind, error) {
	l := m.rules(ctx)
	type pair struct {
		env         manifest.Environment
		branch      string
		record, tip ledger.Commit
	}
	var pairs []pair
	for _, e := range m.Project.Manifest.Environments {
		env, err := m.environment(l, e.Name)
		if err != nil {
			return nil, err
		}
		of := l.Manifest.BranchOf(env)
		if of == "" && len(l.Into(env.Name)) == 0 {
			of = m.branch()
		}
		if of == "" || branch != "" && of != branch {
			continue
		}
		r, known, err := m.Project.Chest.Record(ctx, env.Name)
		if err != nil {
			return nil, err
		}
		tip, err := m.tipOf(ctx, of)
		if err != nil {
			return nil, err
		}
		if known && tip.Depth > 0 && tip.ID != r.Commit.ID {
			pairs = append(pairs, pair{env, of, r.Commit, tip})
		}
	}
	if len(pairs) == 0 {
		return nil, nil
	}
	missing := make([][]ledger.Commit, len(pairs))
	err := arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) (err error) {
		for i, p := range pairs {
			if missing[i], err = r.Missing(p.record, p.tip); err != nil {
				return err
			}
		}
		return nil
	})
	var out []Behind
	for i, p := range pairs {
		b := Behind{Environment: p.env, Branch: p.branch}
		for _, c := range missing[i] {
			touched, err := m.touchesFolders(ctx, c, p.env)
			if err != nil {
				return nil, err
			}
			if touched {
				b.Lacks = append(b.Lacks, c)
			}
		}
		if len(b.Lacks) > 0 {
			out = append(out, b)
		}
	}
	return out, chest.Explain(err)
}
