package pipeline

import (
	"context"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// Drift is what an environment holds and was not deployed by the chest.
type Drift struct {
	Environment manifest.Environment
	// Deployed is the commit that was deployed last; nil when nothing ever was.
	Deployed *ledger.Commit
	// Differences lead from what was deployed to what is there.
	Differences []state.Difference
	// Undo are the steps that would take them back.
	Undo []environment.Step
}

// Drift compares an environment with what was deployed to it last. What is seen is noted
// in the chest, as far as that can be written.
func (m *Mover) Drift(ctx context.Context, name string) (*Drift, error) {
	d, err := m.compareDeployed(ctx, name)
	look := ledger.Look{Environment: name, Time: m.Now(), Person: m.Workspace.Person}
	switch {
	case err != nil && fault.CodeOf(err) != fault.Unreachable:
		return d, err
	case err != nil:
		look.Failure = err.Error()
	case d.Deployed == nil:
		return d, nil
	default:
		look.Commit = d.Deployed.ID
		for _, x := range d.Differences {
			if !x.Quiet {
				look.Differences += max(len(x.Changes), 1)
			}
		}
	}
	_ = m.Workspace.Chest.Looked(ctx, look) // a chest that can only be read takes no notes
	return d, err
}

func (m *Mover) compareDeployed(ctx context.Context, name string) (*Drift, error) {
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	out := &Drift{Environment: env}
	last, ok, err := m.Workspace.Chest.LastDeployment(ctx, name)
	if err != nil || !ok {
		return out, err
	}
	c, err := m.Workspace.Chest.Resolve(ctx, last.Commit.String())
	if err != nil {
		return nil, err
	}
	out.Deployed = &c
	from := m.Workspace.CommitState(c, workspace.Label(c))
	files, err := holding(ctx, from, env)
	if err != nil {
		return nil, err
	}
	got, err := d.Capture(ctx, files)
	if err != nil {
		return nil, err
	}
	out.Differences, err = m.Workspace.Reader().Compare(ctx, from, heldState(env, got.Files), env.Folders())
	if err != nil || len(got.Edits) == 0 {
		return out, err
	}
	plan, err := d.Plan(ctx, files, nil)
	if err != nil {
		return nil, err
	}
	out.Undo = plan.Steps
	return out, nil
}
