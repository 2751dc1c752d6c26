package pipeline

import (
	"context"
	"encoding/json"
	"slices"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/schema/scope"
)

// rulesOf gives the rules by which the folders of an environment are read.
func (m *Mover) rulesOf(ctx context.Context, env manifest.Environment) map[string]string {
	out := map[string]string{}
	for _, s := range env.Sites() {
		data, _ := json.Marshal(m.counting(ctx, s.Into).Scope(s.Into)) // lists of texts always can be
		out[s.Into] = string(data)
	}
	return out
}

// record gives what an environment is known to hold. Nothing is known of one that was
// proven for other folders, or by other filters, than it has now: what these let in or out
// nobody has looked at.
func (m *Mover) record(ctx context.Context, env manifest.Environment) (r chest.Record, known bool, err error) {
	r, known, err = m.Project.Chest.Record(ctx, env.Name)
	return r, known && proven(r, m.rulesOf(ctx, env)), err
}

// proven reports whether a record was proven by some rules.
func proven(r chest.Record, rules map[string]string) bool {
	if len(r.Proofs) == 0 { // recorded before proofs were
		return true
	}
	for folder, rule := range rules {
		if was := r.Proofs[folder]; was != rule && !narrower(was, rule) {
			return false
		}
	}
	return true
}

// narrower reports whether filters let nothing pass that others did not: they only skip more.
func narrower(was, is string) bool {
	var a, b scope.Scope
	if json.Unmarshal([]byte(was), &a) != nil || json.Unmarshal([]byte(is), &b) != nil {
		return false
	}
	return slices.Equal(a.Only, b.Only) && slices.Equal(a.Owners, b.Owners) && slices.Equal(a.Ignore, b.Ignore) &&
		slices.Equal(a.Track, b.Track) &&
		!slices.ContainsFunc(a.Skip, func(p string) bool { return !slices.Contains(b.Skip, p) })
}

// apartFrom lists the work of an environment's record that a branch has not: own is what
// was captured there and is not merged yet, foreign what came from other branches.
func (m *Mover) apartFrom(ctx context.Context, tip, record ledger.Commit) (own, foreign []ledger.Commit, err error) {
	err = arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) error {
		missing, err := r.Missing(tip, record)
		for _, c := range missing {
			if ledger.IsLine(c.Branch) {
				own = append(own, c)
			} else {
				foreign = append(foreign, c)
			}
		}
		return err
	})
	return own, foreign, err
}

// lacks lists the work of a branch that a record has not.
func (m *Mover) lacks(ctx context.Context, record, tip ledger.Commit) (out []ledger.Commit, err error) {
	err = arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) error {
		out, err = r.Missing(record, tip)
		return err
	})
	return out, err
}

// earlier lists what an environment was known to hold before, the newest first, each once.
func (m *Mover) earlier(ctx context.Context, name string, most int) ([]ledger.Commit, error) {
	all, err := m.Project.Chest.Deployments(ctx, name)
	var out []ledger.Commit
	for _, d := range all {
		if len(out) < most && !slices.ContainsFunc(out, func(c ledger.Commit) bool { return c.Tree == d.Commit.Tree }) {
			out = append(out, d.Commit)
		}
	}
	return out, err
}
