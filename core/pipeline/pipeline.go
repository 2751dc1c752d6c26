// Package pipeline moves work between the chest and environments: it captures
// what an environment holds into the workspace, deploys a commit into an
// environment and proves the result, and promotes from one environment to
// another what both the chest and the first one have.
package pipeline

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/trust"
	"oakenchest/core/workspace"
)

// Mover moves work between a project's chest and its environments.
type Mover struct {
	Project *project.Project
	// Desk is the folder of whoever moves it.
	Desk Desk
	Host environment.Host
	Now  func() time.Time
	// Fill gives values for columns that are to take no null; see environment.Settings.
	Fill map[string]string
	// Station reaches environments that run at the server that keeps the project; nil where a folder keeps it.
	Station Station
	// At is set where it works at that server itself.
	At *Attended
	// Trust, when set, is asked before a command of the project is run, and a target reached.
	Trust trust.Keeper
	// Counting, when set, is told which of the tables is read to see what would be lost.
	Counting func(table string, done, of int)
	// DataSteps says what to take of data steps where nothing is recorded: StepsDone or StepsDue;
	// empty refuses such a deployment.
	DataSteps string

	ruled   *landscape.Landscape // as a commit has it
	ruledBy ledger.ID
	unread  error // why the rules that count can't be read
}

// open opens the first target of an environment.
func (m *Mover) open(ctx context.Context, name string) (manifest.Environment, environment.Driver, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return env, nil, err
	}
	d, err := m.reach(ctx, env.Name, env.Site)
	return env, d, err
}

// reach opens a target of an environment, which need not be declared.
func (m *Mover) reach(ctx context.Context, name string, s manifest.Site) (environment.Driver, error) {
	if m.elsewhere(ctx, name) {
		return m.afar(ctx, name, s)
	}
	if err := m.reachable(ctx, name); err != nil {
		return nil, err
	}
	if m.Trust != nil {
		if err := m.Trust.Allow(ctx, trust.Reach(name, s)...); err != nil {
			return nil, err
		}
	}
	return environment.Open(ctx, m.Host, s.Target, environment.Settings{Scope: m.counting(ctx, s.Into).Scope(s.Into), Scratch: s.Scratch,
		LockWait: s.Wait(), Online: s.Online, Fill: m.Fill, Counting: m.Counting})
}

// reachable refuses, at the server, environments that are not reached from there.
func (m *Mover) reachable(ctx context.Context, name string) error {
	if m.At == nil {
		return nil
	}
	env, err := m.declaration(ctx, name)
	if err != nil {
		return err
	}
	return m.At.Reachable(env)
}

// declared gives the files below an environment's folder in a state.
func declared(ctx context.Context, s state.State, env manifest.Environment) (environment.Files, error) {
	list, err := s.Files(ctx)
	if err != nil {
		return nil, err
	}
	out := environment.Files{}
	for _, f := range list {
		name, below := strings.CutPrefix(f.Path, env.Into+"/")
		if !below {
			continue
		}
		if out[name], err = state.ReadFile(s, f.Path); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// live reads what an environment holds, beside what the workspace has of it. The driver
// stays open.
func (m *Mover) live(ctx context.Context, name string) (env manifest.Environment, d environment.Driver, have environment.Files,
	got *environment.Captured, err error) {
	if env, d, err = m.stage(ctx, name); err != nil {
		return env, nil, nil, nil, err
	}
	if have, err = holding(ctx, m.Desk.Work(), env); err == nil {
		got, err = whole(ctx, d, have)
	}
	if err != nil {
		return env, nil, nil, nil, errors.Join(err, d.Close())
	}
	return env, d, have, got, nil
}

// State is an environment as a state: the files that a capture would leave.
func (m *Mover) State(ctx context.Context, name string) (state.State, error) {
	env, d, _, got, err := m.live(ctx, name)
	if err != nil {
		return nil, err
	}
	return heldState(env, got.Files), d.Close()
}

// StateBeside is State, with the text of objects that have not changed as another state
// has it.
func (m *Mover) StateBeside(ctx context.Context, name string, beside state.State) (state.State, error) {
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	have, err := holding(ctx, beside, env)
	if err != nil {
		return nil, err
	}
	got, err := whole(ctx, d, have)
	if err != nil {
		return nil, err
	}
	return heldState(env, got.Files), nil
}

// Has finds the commit that an environment holds: what was promoted to it, the tip of
// its branch, what was deployed there last, or the workspace's own. It is refused when the
// environment holds something that none of them does.
func (m *Mover) Has(ctx context.Context, name string) (ledger.Commit, error) {
	var none ledger.Commit
	if m.At != nil {
		if id := m.At.Holds[name]; id != none.ID && m.reachable(ctx, name) != nil {
			return m.Project.Chest.Commit(ctx, id)
		}
	}
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return none, err
	}
	defer d.Close()
	for _, c := range m.candidates(ctx, name) {
		holds, err := m.holds(ctx, env, d, c)
		if err != nil {
			return none, err
		}
		if holds {
			m.seenWhole(ctx, name, c)
			return c, nil
		}
	}
	return none, fault.New(fault.Refused, "Bring it into the chest first: oaken capture "+fault.Word(name)+", then oaken commit.",
		"%s holds changes that no commit has, so they can't be promoted.", name)
}

// holds reports whether an environment holds what a commit declares: what means the same
// is read in the words of the commit.
func (m *Mover) holds(ctx context.Context, env manifest.Environment, d environment.Driver, c ledger.Commit) (bool, error) {
	from := m.Project.CommitState(c, workspace.Label(c))
	files, err := holding(ctx, from, env)
	if err != nil {
		return false, err
	}
	got, err := whole(ctx, d, files)
	if err != nil {
		return false, err
	}
	if none, err := m.noneDue(ctx, env, files, c); err != nil || !none {
		return false, err
	}
	diffs, err := m.reader(ctx, env).Compare(ctx, from, heldState(env, got.Files), env.Folders())
	return !slices.ContainsFunc(diffs, func(d state.Difference) bool { return !d.Quiet }), err
}

// candidates lists the commits that an environment may hold, the likeliest first.
func (m *Mover) candidates(ctx context.Context, name string) []ledger.Commit {
	var out []ledger.Commit
	add := func(c ledger.Commit, err error) {
		if err == nil && c.ID != (ledger.ID{}) && !slices.ContainsFunc(out, func(o ledger.Commit) bool { return o.ID == c.ID }) {
			out = append(out, c)
		}
	}
	c := m.Project.Chest
	last := func() {
		if d, ok, err := c.LastDeployment(ctx, name); ok && err == nil {
			add(c.Resolve(ctx, d.Commit.String()))
		}
	}
	l := m.rules(ctx)
	if len(l.Into(name)) > 0 { // it has what was promoted to it
		last()
	}
	if env, err := m.environment(l, name); err == nil && l.Manifest.BranchOf(env) != "" {
		add(c.Resolve(ctx, l.Manifest.BranchOf(env)))
		last()
	}
	add(c.Resolve(ctx, m.branch()))
	add(m.base(), nil)
	last()
	return out
}
