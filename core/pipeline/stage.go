package pipeline

import (
	"context"
	"errors"

	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// stage opens an environment with all its targets. The names of its files are paths of
// the project.
func (m *Mover) stage(ctx context.Context, name string) (manifest.Environment, environment.Driver, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return env, nil, err
	}
	var places []environment.Place
	for _, s := range env.Sites() {
		d, err := m.reach(ctx, env.Name, s)
		if err != nil {
			return env, nil, errors.Join(err, environment.Together(places).Close())
		}
		places = append(places, environment.Place{Into: s.Into, Driver: d})
	}
	return env, environment.Together(places), nil
}

// holding gives the files of a state that an environment is to hold, by path.
func holding(ctx context.Context, s state.State, env manifest.Environment) (environment.Files, error) {
	list, err := s.Files(ctx)
	if err != nil {
		return nil, err
	}
	out := environment.Files{}
	for _, f := range list {
		if f.Mode == chest.Folder || !state.Under(env.Folders(), f.Path) {
			continue
		}
		if out[f.Path], err = state.ReadFile(s, f.Path); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// heldState is what an environment holds as a state.
func heldState(env manifest.Environment, files environment.Files) state.State {
	return state.Memory{Name: "env:" + env.Name, Contents: files, Within: env.Folders()}
}

// perTarget lets this person's changes be told in each target of an environment: fn gets
// its driver, and the files of two states below its folder.
func (m *Mover) perTarget(ctx context.Context, env manifest.Environment, a, b environment.Files,
	fn func(s manifest.Site, f folder, d environment.Driver, a, b environment.Files) error) error {
	for _, s := range env.Sites() {
		f, err := m.folderOf(s.Into, s.Target)
		if err != nil {
			return err
		}
		d, err := m.reach(ctx, env.Name, s)
		if err != nil {
			return err
		}
		err = fn(s, f, d, environment.Inside(a, s.Into), environment.Inside(b, s.Into))
		if err = errors.Join(err, d.Close()); err != nil {
			return err
		}
	}
	return nil
}

// onlyMineIn gives what an environment has, with this person's objects as they are in
// another set of files, and who is behind the differences.
func (m *Mover) onlyMineIn(ctx context.Context, env manifest.Environment, own, other environment.Files) (environment.Files,
	[]Attribution, error) {
	out := environment.Files{}
	var by []Attribution
	err := m.perTarget(ctx, env, own, other, func(s manifest.Site, f folder, d environment.Driver, a, b environment.Files) error {
		files, who, err := m.mine(ctx, f, d, a, b)
		for name, data := range files {
			out[s.Into+"/"+name] = data
		}
		by = append(by, known(who)...)
		return err
	})
	return out, by, err
}

// whoIsBehind tells who is behind the differences of two sets of an environment's files.
func (m *Mover) whoIsBehind(ctx context.Context, env manifest.Environment, own, other environment.Files) ([]Attribution, error) {
	var by []Attribution
	err := m.perTarget(ctx, env, own, other, func(_ manifest.Site, f folder, d environment.Driver, a, b environment.Files) error {
		who, err := m.behind(ctx, f, d, a, b)
		by = append(by, who...)
		return err
	})
	return by, err
}

// whole reads what a target holds, and refuses one that could not be seen whole: nothing is
// said of what nobody has seen.
func whole(ctx context.Context, d environment.Driver, have environment.Files) (*environment.Captured, error) {
	got, err := d.Capture(ctx, have)
	if err == nil {
		err = got.Known()
	}
	return got, err
}

// planOf plans what makes an environment hold the files of a state; what it is known to hold
// tells what was called otherwise, and the work that the state has, which data steps are due.
func (m *Mover) planOf(ctx context.Context, d environment.Driver, env manifest.Environment, s state.State, files, lost environment.Files,
	has works) (*environment.Plan, error) {
	past := &environment.Past{Lost: lost, Runs: map[string]bool{}}
	list, err := s.Files(ctx)
	for _, f := range list {
		if f.Mode == chest.Executable {
			past.Runs[f.Path] = true
		}
	}
	if err != nil {
		return nil, err
	}
	r, known, err := m.Project.Chest.Record(ctx, env.Name)
	var tidied []string
	if err == nil {
		past.Steps, tidied, err = m.dataSteps(ctx, env, files, has)
	}
	if err == nil && known {
		past.Held, err = holding(ctx, m.Project.CommitState(r.Commit, label(r.Commit)), env)
	}
	if err != nil {
		return nil, err
	}
	plan, err := d.Plan(ctx, files, past)
	if err == nil {
		plan.Tidied = tidied
	}
	return plan, err
}
