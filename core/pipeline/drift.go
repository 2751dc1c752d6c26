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
	look := ledger.Look{Environment: name, Time: m.Now(), Person: m.Project.Person}
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
	m.tellOfDrift(ctx, look)
	_ = m.Project.Chest.Looked(ctx, look) // a chest that can only be read takes no notes
	return d, err
}

// seenWhole notes that an environment was found as it was deployed, where the last look at it says otherwise: somebody
// could not reach it, say, from another machine.
func (m *Mover) seenWhole(ctx context.Context, name string, c ledger.Commit) {
	looks, err := m.Project.Chest.Looks(ctx)
	if look, ok := looks[name]; err != nil || !ok || look.Failure == "" && look.Differences == 0 {
		return
	}
	if last, ok, err := m.Project.Chest.LastDeployment(ctx, name); err == nil && ok && last.Commit == c.ID {
		_ = m.Project.Chest.Looked(ctx, ledger.Look{Environment: name, Time: m.Now(), Person: m.Project.Person, Commit: c.ID})
	}
}

// tellOfDrift leaves a notice for whoever deployed to an environment last, when it is seen
// for the first time that somebody has changed it; development environments change all the
// time.
func (m *Mover) tellOfDrift(ctx context.Context, look ledger.Look) {
	env, err := m.environment(m.rules(ctx), look.Environment)
	if err != nil || look.Differences == 0 || env.Tier == manifest.Development || env.Tier == "" {
		return
	}
	looks, err1 := m.Project.Chest.Looks(ctx)
	last, ok, err2 := m.Project.Chest.LastDeployment(ctx, env.Name)
	if err1 != nil || err2 != nil || !ok || last.Workspace == m.Project.Name {
		return
	}
	if before, seen := looks[env.Name]; seen && !before.Time.Before(last.Time) && before.Differences > 0 {
		return
	}
	_ = m.Project.Chest.Notify(ctx,
		ledger.Notice{Workspace: last.Workspace, Time: m.Now(),
			Text: "Somebody changed " + env.Name + " by hand since you deployed to it: oaken drift " + env.Name + " shows what."})
}

func (m *Mover) compareDeployed(ctx context.Context, name string) (*Drift, error) {
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	out := &Drift{Environment: env}
	last, ok, err := m.Project.Chest.LastDeployment(ctx, name)
	if err != nil || !ok {
		return out, err
	}
	c, err := m.Project.Chest.Resolve(ctx, last.Commit.String())
	if err != nil {
		return nil, err
	}
	out.Deployed = &c
	from := m.Project.CommitState(c, workspace.Label(c))
	files, err := holding(ctx, from, env)
	if err != nil {
		return nil, err
	}
	got, err := whole(ctx, d, files)
	if err != nil {
		return nil, err
	}
	out.Differences, err = m.reader(ctx, env).Compare(ctx, from, heldState(env, got.Files), env.Folders())
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
