// Package pipeline moves work between the chest and environments: it captures
// what an environment holds into the workspace, deploys a commit into an
// environment and proves the result, and promotes from one environment to
// another what both the chest and the first one have.
package pipeline

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// Mover moves work between one workspace's chest and its environments.
type Mover struct {
	Workspace *workspace.Workspace
	Host      environment.Host
	Now       func() time.Time
	// Fill gives values for columns that are to take no null; see environment.Settings.
	Fill map[string]string

	ruled   *landscape.Landscape // as a commit has it
	ruledBy ledger.ID
}

// open opens the first target of an environment.
func (m *Mover) open(ctx context.Context, name string) (manifest.Environment, environment.Driver, error) {
	env, err := m.Workspace.Manifest.Environment(name)
	if err != nil {
		return env, nil, err
	}
	d, err := m.reach(ctx, env.Site)
	return env, d, err
}

// reach opens a target, which need not be declared.
func (m *Mover) reach(ctx context.Context, s manifest.Site) (environment.Driver, error) {
	return environment.Open(ctx, m.Host, s.Target, environment.Settings{Scope: m.Workspace.Manifest.Scope(s.Into), Scratch: s.Scratch, LockWait: s.Wait(), Online: s.Online, Fill: m.Fill})
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
func (m *Mover) live(ctx context.Context, name string) (env manifest.Environment, d environment.Driver, have environment.Files, got *environment.Captured, err error) {
	if env, d, err = m.stage(ctx, name); err != nil {
		return env, nil, nil, nil, err
	}
	if have, err = holding(ctx, m.Workspace.Work(), env); err == nil {
		got, err = d.Capture(ctx, have)
	}
	if err != nil {
		return env, nil, nil, nil, errors.Join(err, d.Close())
	}
	return env, d, have, got, nil
}

// CaptureOptions are the choices of a capture.
type CaptureOptions struct {
	// Mine takes only what this person has changed or locked.
	Mine bool
	// Removes is how many files it may remove, where that is more than half of them.
	Removes int
}

// brake refuses a capture that would remove all files, or more than half of them: of an
// empty database, of one that was taken for another, or through a filter that lets nothing
// pass.
func (o CaptureOptions) brake(env manifest.Environment, have environment.Files, edits map[string][]byte) error {
	gone := 0
	for name, data := range edits {
		if _, had := have[name]; data == nil {
			gone++
		} else if !had {
			gone-- // a file may have come in the place of another
		}
	}
	if gone*2 <= len(have) || gone == o.Removes {
		return nil
	}
	return fault.New(fault.Refused, fmt.Sprintf("Look at its target and filters in oaken.toml. If it is right, say so: oaken capture %s --removes %d.", env.Name, gone),
		"%s lacks what %d of %d files in %s declare; nothing was captured.", env.Name, gone, len(have), strings.Join(env.Folders(), " and "))
}

// Capture is what came of capturing an environment.
type Capture struct {
	Environment manifest.Environment
	// Differences say what the environment has otherwise than the workspace had.
	Differences []state.Difference
	// Written lists the files that were written or removed, by project path.
	Written []string
	// Rescued is the folder with copies of edits that were overwritten; empty for none.
	Rescued string
	Objects int
	// Untracked lists what the environment has and no file can say.
	Untracked []string
	// By tells who is behind the objects that differed, by address; those that nothing is
	// known of are not in it.
	By []Attribution
}

// objects counts what has a file of its own: what a schema holds, not the schema.
func objects(root *element.Element) int {
	n := 0
	for _, e := range root.Children {
		if root.Type == "environment" {
			for _, inside := range e.Children {
				n += objects(inside)
			}
		} else if e.Type == "schema" {
			n += len(e.Children)
		} else {
			n++
		}
	}
	return n
}

// Capture brings what an environment holds into the workspace: one file for
// each object. Files of objects that are alike are not touched. With mine, only what
// this person changed there comes.
func (m *Mover) Capture(ctx context.Context, name string, o CaptureOptions) (*Capture, error) {
	env, d, have, got, err := m.live(ctx, name)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	mine := o.Mine
	if err := o.brake(env, have, got.Edits); err != nil && !mine {
		return nil, err
	}
	c := &Capture{Environment: env, Objects: objects(got.Tree), Untracked: got.Untracked}
	if mine {
		if got.Files, c.By, err = m.onlyMineIn(ctx, env, have, got.Files); err != nil {
			return nil, err
		}
		got.Edits = edits(have, got.Files)
	} else if len(got.Edits) > 0 {
		if c.By, err = m.whoIsBehind(ctx, env, have, got.Files); err != nil {
			return nil, err
		}
	}
	c.Differences, err = m.Workspace.Reader().Compare(ctx, m.Workspace.Work(), heldState(env, got.Files), env.Folders())
	if err != nil {
		return nil, err
	}
	c.Written, c.Rescued, err = m.Workspace.WriteFiles(ctx, "", got.Edits)
	return c, err
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
	got, err := d.Capture(ctx, have)
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
			return c, nil
		}
	}
	return none, fault.New(fault.Refused, "Bring it into the chest first: oaken capture "+name+", then oaken commit.", "%s holds changes that no commit has, so they can't be promoted.", name)
}

// holds reports whether an environment holds what a commit declares: what means the same
// is read in the words of the commit.
func (m *Mover) holds(ctx context.Context, env manifest.Environment, d environment.Driver, c ledger.Commit) (bool, error) {
	from := m.Workspace.CommitState(c, workspace.Label(c))
	files, err := holding(ctx, from, env)
	if err != nil {
		return false, err
	}
	got, err := d.Capture(ctx, files)
	if err != nil {
		return false, err
	}
	diffs, err := m.Workspace.Reader().Compare(ctx, from, heldState(env, got.Files), env.Folders())
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
	c := m.Workspace.Chest
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
	add(c.Resolve(ctx, m.Workspace.Branch))
	add(m.Workspace.Base, nil)
	last()
	return out
}
