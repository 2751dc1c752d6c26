package pipeline

import (
	"context"
	"errors"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/declare"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/workspace"
)

// Fresh is a branch with an environment of its own.
type Fresh struct {
	Environment manifest.Environment
	Commit      ledger.Commit
	// Steps counts what was done to fill the environment.
	Steps int
}

// FreshEnvironment gives the environment that a branch gets for a target, but for its folder.
func FreshEnvironment(branch, target string) manifest.Environment {
	return manifest.Environment{Name: strings.ReplaceAll(branch, "/", "-"), Site: manifest.Site{Target: target}}
}

// Branch makes a branch at a commit, and an environment for it: an empty database,
// into which everything that the commit declares is deployed, rows included. The
// environment has the branch's name and is declared in a first commit of the branch.
// What fails leaves neither branch nor database.
func (m *Mover) Branch(ctx context.Context, b ledger.Branch, at ledger.Commit, target string, done func(step, of int)) (*Fresh, error) {
	env := FreshEnvironment(b.Name, target)
	if err := m.freshNames(ctx, b.Name, env.Name); err != nil {
		return nil, err
	}
	kindName, err := environment.KindOf(target)
	if err == nil {
		err = environment.CheckTarget(target)
	}
	if err != nil {
		return nil, err
	}
	if env.Into = m.folderFor(kindName); env.Into == "" {
		return nil, fault.New(fault.Usage, "Declare an environment of that sort first: oaken env add.",
			"The project has no folder of what %s could hold.", target)
	}
	if err := manifest.CheckEnvironment(env); err != nil {
		return nil, fault.New(fault.Usage, "Choose another name for the branch.", "The environment can't be declared: %w.", err)
	}
	undo, err := environment.Create(ctx, m.Host, target)
	if err != nil {
		return nil, err
	}
	f := &Fresh{Environment: env}
	var text []byte
	if f.Steps, err = m.fill(ctx, env, at, done); err == nil {
		text, err = m.Project.CommittedManifest(at)
	}
	if err == nil {
		text, err = declare.Environment(text, env)
	}
	if err == nil {
		b.Tip = at.ID
		f.Commit, err = m.newBranch(ctx, b, map[string][]byte{manifest.Name: text},
			"The environment "+env.Name+" of the branch",
			env, evidence{ActionBranch, ActionBranch + " " + b.Name, f.Steps})
	}
	if err != nil {
		return nil, errors.Join(err, undo(context.WithoutCancel(ctx)))
	}
	return f, nil
}

// freshNames refuses names that are taken, before anything is made.
func (m *Mover) freshNames(ctx context.Context, branch, env string) error {
	if err := chest.CheckName(branch); err != nil {
		return err
	}
	if _, err := m.Project.Chest.Branch(ctx, branch); err == nil {
		return fault.New(fault.Refused, "Choose another name.", "There is a branch %s already.", branch)
	}
	if _, err := m.Project.Manifest.Environment(env); err == nil {
		return fault.New(fault.Refused, "Choose another name for the branch.", "There is an environment %s already.", env)
	}
	return nil
}

// folderFor gives the folder of the project that holds what a sort of target does.
func (m *Mover) folderFor(kindName string) string {
	for _, e := range m.Project.Manifest.Environments {
		if k, err := environment.KindOf(e.Target); err == nil && k == kindName {
			return e.Into
		}
	}
	for _, a := range m.Project.Manifest.Artifacts {
		if a.Kind == kindName && kindName != "" {
			return a.Path
		}
	}
	return ""
}

// fill deploys a commit into an empty environment.
func (m *Mover) fill(ctx context.Context, env manifest.Environment, at ledger.Commit, done func(step, of int)) (int, error) {
	d, err := m.reach(ctx, env.Name, env.Site)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	files, err := declared(ctx, m.Project.CommitState(at, workspace.Label(at)), env)
	if err != nil {
		return 0, err
	}
	p, err := d.Plan(ctx, files, nil)
	if err != nil {
		return 0, err
	}
	before, err := p.Before(ctx)
	if err != nil {
		return 0, err
	}
	for name := range before {
		if name != "public/schema.sql" {
			return 0, fault.New(fault.Refused, "Name a database that is not there yet, or an empty one.", "%s is not empty.", env.Target)
		}
	}
	return len(p.Steps), p.Apply(ctx, func(step int) {
		if done != nil {
			done(step, len(p.Steps))
		}
	})
}
