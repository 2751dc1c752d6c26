package pipeline

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// KeepDrift records what somebody changed in an environment on a branch of its own, which
// begins at what was deployed there.
func (m *Mover) KeepDrift(ctx context.Context, name, branch, message string) (ledger.Commit, error) {
	if err := chest.CheckName(branch); err != nil {
		return ledger.Commit{}, err
	}
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return ledger.Commit{}, err
	}
	defer d.Close()
	release, err := m.Project.Chest.Reserve(ctx, name)
	if err != nil {
		return ledger.Commit{}, err
	}
	defer release()
	last, ok, err := m.Project.Chest.LastDeployment(ctx, name)
	if err == nil && !ok {
		err = fault.New(fault.Refused, "oaken capture "+fault.Word(name)+" brings what it holds into the workspace.",
			"Nothing was deployed to %s, so it can't have drifted.", name)
	}
	if err != nil {
		return ledger.Commit{}, err
	}
	base, err := m.Project.Chest.Commit(ctx, last.Commit)
	if err != nil {
		return base, err
	}
	files, err := holding(ctx, m.Project.CommitState(base, label(base)), env)
	if err != nil {
		return base, err
	}
	got, err := whole(ctx, d, files)
	if err != nil {
		return base, err
	}
	if len(got.Edits) == 0 {
		return base, fault.New(fault.Refused, "There is nothing to keep.", "%s is as it was deployed.", name)
	}
	if message == "" {
		message = "What was changed in " + name + " by hand"
	}
	w := m.Project
	c, err := m.newBranch(ctx, ledger.Branch{Name: branch, Tip: base.ID, Origin: label(base), Author: w.Person, Time: m.Now()},
		got.Edits, message,
		env, evidence{ActionFound, ActionFound, 0})
	if err != nil {
		return base, err
	}
	return c, nil
}

// UndoDrift computes what takes back what somebody changed in an environment. Close the
// deployment.
func (m *Mover) UndoDrift(ctx context.Context, name string) (*Deployment, error) {
	last, ok, err := m.Project.Chest.LastDeployment(ctx, name)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fault.New(fault.Refused, "Deploy the state that it is to have: oaken deploy "+fault.Word(name)+" STATE.",
			"Nothing was deployed to %s yet.", name)
	}
	c, err := m.Project.Chest.Commit(ctx, last.Commit)
	if err != nil {
		return nil, err
	}
	return m.Prepare(ctx, name, c, false)
}

// Undo carries out what UndoDrift has computed. It is recorded as a change of the
// environment, and can be taken back.
func (m *Mover) Undo(ctx context.Context, d *Deployment, o DeployOptions) error {
	if err := m.mayControl(m.rules(ctx), d.Environment, "change it"); err != nil {
		return err
	}
	if m.elsewhere(ctx, d.Environment.Name) {
		return m.undoThere(ctx, d, o)
	}
	if err := m.change(ctx, d, o); err != nil {
		return err
	}
	// it was proven to agree
	_ = m.Project.Chest.Looked(ctx, ledger.Look{Environment: d.Environment.Name, Time: m.Now(), Commit: d.Commit.ID,
		Person: m.Project.Person})
	return nil
}
