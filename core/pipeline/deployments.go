package pipeline

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// Record is a deployment with everything that was written down of it.
type Record struct {
	chest.Deployed
	Gates []GateResult
	// Steps are the statements, as far as they were kept.
	Steps []StepRecord
	// Plan is the plan that was followed, PlanBy who approves it; only Record gives them.
	Plan   *PlanFile
	PlanBy []string
	// After is what came of the commands that must pass afterwards; nil for none.
	After *Aftermath
	// Differences say what became different; only Record gives them.
	Differences []state.Difference
}

// Deployments gives those into an environment, all for an empty name, from a time and
// before another, the newest first; zero times are no bounds. What an environment was only
// found to hold is left out.
func (m *Mover) Deployments(ctx context.Context, name string, since, until time.Time) ([]Record, error) {
	all, err := m.Project.Chest.Deployments(ctx, name)
	if err != nil {
		return nil, err
	}
	var out []Record
	for _, d := range all {
		if !since.IsZero() && d.Time.Before(since) || !until.IsZero() && !d.Time.Before(until) || d.Source == ActionFound {
			continue
		}
		r := Record{Deployed: d}
		if d.Account != nil {
			if r.After, err = readAfter(d.Account.After); err != nil {
				return nil, err
			}
		}
		if d.Account != nil && d.Account.Gates != "" {
			if err := json.Unmarshal([]byte(d.Account.Gates), &r.Gates); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// Record gives one deployment by its number, whole.
func (m *Mover) Record(ctx context.Context, number int64) (*Record, error) {
	all, err := m.Project.Chest.Deployments(ctx, "")
	if err != nil {
		return nil, err
	}
	for i, d := range all {
		if d.Number != number {
			continue
		}
		r := &Record{Deployed: d}
		for _, before := range all[i+1:] {
			if before.Environment == d.Environment && (before.Undone == nil || before.Undone.Time.After(d.Time)) {
				if r.Differences, err = m.between(ctx, before, d); err != nil {
					return nil, err
				}
				break
			}
		}
		return r, m.readAccount(ctx, r)
	}
	return nil, fault.New(fault.Usage, "oaken deployments lists them with their numbers.", "There is no deployment %d.", number)
}

// readAccount reads what was stored of a deployment.
func (m *Mover) readAccount(ctx context.Context, r *Record) error {
	if r.Account == nil {
		return nil
	}
	if r.Account.Gates != "" {
		if err := json.Unmarshal([]byte(r.Account.Gates), &r.Gates); err != nil {
			return err
		}
	}
	var err error
	if r.After, err = readAfter(r.Account.After); err != nil {
		return err
	}
	files, err := m.Project.Chest.Stored(r.Account.Tree)
	if err != nil {
		return err
	}
	for i, g := range r.Gates {
		r.Gates[i].Output = string(files[accountGates+strings.ReplaceAll(g.Name, "/", "-")])
	}
	if data, ok := files[accountPlan]; ok {
		if r.Plan, err = ReadPlan(bytes.NewReader(data)); err != nil {
			return err
		}
		if r.PlanBy, err = m.signers(ctx, r.Plan, r.Account.Source); err != nil {
			return err
		}
	}
	if data, ok := files[accountSteps]; ok {
		return json.Unmarshal(data, &r.Steps)
	}
	return nil
}

// between compares what two deployments left, as far as an environment holds it.
func (m *Mover) between(ctx context.Context, a, b chest.Deployed) ([]state.Difference, error) {
	var folders []string
	for _, name := range []string{a.Environment, b.Environment} {
		if env, err := m.declaration(ctx, name); err == nil {
			folders = append(folders, env.Folders()...)
		}
	}
	w := m.Project
	return w.Reader().Compare(ctx, w.CommitState(a.Commit, label(a.Commit)), w.CommitState(b.Commit, label(b.Commit)), folders)
}

// CompareDeployments compares what two deployments left.
func (m *Mover) CompareDeployments(ctx context.Context, one, other int64) (a, b *Record, diffs []state.Difference, err error) {
	if a, err = m.Record(ctx, one); err != nil {
		return nil, nil, nil, err
	}
	if b, err = m.Record(ctx, other); err != nil {
		return nil, nil, nil, err
	}
	diffs, err = m.between(ctx, a.Deployed, b.Deployed)
	return a, b, diffs, err
}
