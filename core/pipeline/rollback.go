package pipeline

import (
	"context"
	"errors"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Rollback is a deployment that brings an environment back to what it held before
// another.
type Rollback struct {
	Deployment
	kept ledger.Kept
}

// PrepareRollback computes what brings an environment back to what it held before the
// last deployment, with the data that this lost. Close it.
func (m *Mover) PrepareRollback(ctx context.Context, name string) (*Rollback, error) {
	env, err := m.Workspace.Manifest.Environment(name)
	if err != nil {
		return nil, err
	}
	k, ok, err := m.Workspace.Chest.LastKept(ctx, name)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fault.New(fault.Refused, "Deploy the state that it is to have: oaken deploy "+name+" STATE.", "No deployment to %s is recorded that could be taken back.", name)
	}
	r := &Rollback{kept: k}
	before, lost, err := m.kept(k, env)
	if err != nil {
		return nil, err
	}
	_, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	r.Deployment = Deployment{Environment: env, Label: "what it was on " + k.Time.Local().Format("2006-01-02 15:04"), driver: d}
	if r.Plan, err = d.Plan(ctx, before, lost); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return r, nil
}

// kept gives what an environment held before a deployment, and what that lost.
func (m *Mover) kept(k ledger.Kept, env manifest.Environment) (before, lost environment.Files, err error) {
	files, err := m.Workspace.Chest.KeptFiles(k)
	before, lost = environment.Files{}, environment.Files{}
	for name, data := range files {
		if p, ok := strings.CutPrefix(name, keptWas); ok {
			before[p] = data
		} else if p, ok := strings.CutPrefix(name, keptGone); ok {
			lost[p] = data
		} else if below, ok := strings.CutPrefix(name, keptBefore); ok {
			before[env.Into+"/"+below] = data
		} else if below, ok := strings.CutPrefix(name, keptLost); ok {
			lost[env.Into+"/"+below] = data
		}
	}
	return before, lost, err
}

// Rollback carries a prepared rollback out and records that the deployment is undone.
// What this loses in turn is saved beside the workspace.
func (m *Mover) Rollback(ctx context.Context, r *Rollback, o DeployOptions) error {
	kept, err := m.carryOut(ctx, &r.Deployment, o)
	if err != nil {
		return err
	}
	err = m.Workspace.Chest.TakenBack(ctx, r.kept, m.Workspace.Person, m.Workspace.Name, m.Now())
	if err == nil && kept != 0 {
		err = m.Workspace.Chest.Forget(ctx, kept)
	}
	return err
}

// Lost gives the files of rows that the last deployment to an environment lost.
func (m *Mover) Lost(ctx context.Context, name string) (environment.Files, error) {
	env, err := m.Workspace.Manifest.Environment(name)
	if err != nil {
		return nil, err
	}
	k, ok, err := m.Workspace.Chest.LastKept(ctx, name)
	if err != nil || !ok {
		return nil, err
	}
	_, lost, err := m.kept(k, env)
	if len(env.Also) == 0 {
		lost = environment.Inside(lost, env.Into)
	}
	return lost, err
}
