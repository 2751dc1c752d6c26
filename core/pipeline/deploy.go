package pipeline

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/schema/step"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// DeployOptions are the choices of a deployment.
type DeployOptions struct {
	// AllowLoss consents to the loss of data, which is kept first.
	AllowLoss bool
	// Source is what was asked for, as it was written.
	Source string
	// Reason is why somebody who may override gates does so; see PromoteOptions.
	Reason string
	// ReplaceDrift consents to changing what somebody changed in the environment and no commit
	// knows; it is kept first.
	ReplaceDrift bool
	// Done, when set, is told after each step; After before each command that must pass afterwards.
	Done  func(step int)    `json:"-"`
	After func(name string) `json:"-"`

	follow *PlanFile // the plan that is followed; nil for none
}

// Deployment is a plan for an environment, or what came of it.
type Deployment struct {
	Environment manifest.Environment
	// Commit is what is deployed; its ID is zero for a state that no commit has.
	Commit ledger.Commit
	// Label says what is deployed, for people.
	Label string
	Plan  *environment.Plan
	// Part says that only some objects are deployed, so that the environment need not hold
	// what the commit declares.
	Part bool
	// Done says that the plan was carried out and the environment proven equal.
	Done bool
	// Saved is the folder in which what is lost was saved first; empty for none. Kept says that it was kept in the chest alone.
	Saved string
	Kept  bool
	// There says that the server carries it out.
	There bool

	// Unknown lists what the environment has that no commit knows, and that the plan would
	// change, by address.
	Unknown []string

	// Again lists what comes again of work that was taken back.
	Again []ledger.Absence

	// Unfinished is when an earlier deployment began that did not end; zero for none.
	Unfinished time.Time

	// After is what came of the commands that must pass afterwards; nil where there are none.
	After *Aftermath

	number     int64              // of the record of it
	deployed   ledger.Commit      // that the record is of: a promotion may have made it
	driver     environment.Driver // nil once it is let go
	target     environment.Files  // what it is to hold
	release    func()             // gives the environment back to others; nil when somebody else does
	unfinished []int64            // the numbers of what such deployments kept
}

// Prepare computes what deploying a commit would do; with mine, only to the objects that
// this person has changed or locked. Until it is closed, nobody else deploys there.
func (m *Mover) Prepare(ctx context.Context, name string, c ledger.Commit, mine bool) (*Deployment, error) {
	release, err := m.Project.Chest.Reserve(ctx, name)
	if err != nil {
		return nil, err
	}
	label := workspace.Label(c)
	again, lost, err := m.bringsAgain(ctx, name, c)
	var d *Deployment
	if err == nil {
		d, err = m.prepare(ctx, name, m.Project.CommitState(c, label), label, mine, lost, works{of: []ledger.Commit{c}})
	}
	if err != nil {
		release()
		return nil, err
	}
	d.Again = again
	if err := m.overDrift(ctx, d); err != nil {
		release()
		return nil, errors.Join(err, d.Close())
	}
	d.Commit, d.release = c, release
	return d, nil
}

// Foresee is Prepare for a state that is only looked at, such as what is not committed yet.
func (m *Mover) Foresee(ctx context.Context, name string, s state.State, label string, mine bool) (*Deployment, error) {
	d, err := m.prepare(ctx, name, s, label, mine, nil, works{of: []ledger.Commit{m.base()}})
	if err == nil {
		err = m.overDrift(ctx, d)
	}
	return d, err
}

// prepare is Prepare for any state; lost is what was lost when work was taken back that
// comes again.
func (m *Mover) prepare(ctx context.Context, name string, s state.State, label string, mine bool, lost environment.Files,
	has works) (*Deployment, error) {
	env, d, err := m.stage(ctx, name)
	if err != nil {
		return nil, err
	}
	dep := &Deployment{Environment: env, Label: label, driver: d, Part: mine, There: m.elsewhere(ctx, env.Name)}
	files, err := holding(ctx, s, env)
	if err == nil && len(files) == 0 {
		err = fault.New(fault.Refused, "Capture an environment into it and commit, or deploy another state.",
			"%s holds nothing in %s, so there is nothing to deploy.", label, strings.Join(env.Folders(), " and "))
	}
	if err == nil && mine {
		if files, err = m.onlyMine(ctx, dep, files); err == nil {
			var held environment.Files
			held, err = m.heldBy(ctx, env)
			files = withDataSteps(env, files, held) // those come with all of a commit
		}
	}
	if err == nil {
		dep.target = files
		dep.Plan, err = m.planOf(ctx, d, env, s, files, lost, has)
	}
	if err == nil {
		err = m.recordedFiles(ctx, dep)
	}
	if err == nil {
		err = m.notUnfinished(ctx, dep)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return dep, nil
}

// overDrift finds what a plan would change that no commit knows. One's own objects on a shared
// database are one's own to change, and an unfinished deployment goes on.
func (m *Mover) overDrift(ctx context.Context, d *Deployment) (err error) {
	if len(d.Plan.Steps) > 0 && !d.Part && d.Unfinished.IsZero() {
		d.Unknown, err = m.unknownTo(ctx, d.Environment, d.target)
	}
	return err
}

// recordedFiles takes what a commit holds out of what would be lost: a file of a plain
// folder that goes, and is as it was deployed.
func (m *Mover) recordedFiles(ctx context.Context, d *Deployment) error {
	last, ok, err := m.Project.Chest.LastDeployment(ctx, d.Environment.Name)
	if err != nil || !ok {
		return err
	}
	var before environment.Files
	for i := range d.Plan.Steps {
		s := &d.Plan.Steps[i]
		if s.Loss == "" || len(s.Address.Steps) != 1 || s.Address.Steps[0].Type != "file" {
			continue
		}
		if before == nil {
			if before, err = d.Plan.Before(ctx); err != nil {
				return err
			}
		}
		c, err := m.Project.Chest.Commit(ctx, last.Commit)
		if err != nil {
			return err
		}
		name := s.Into + "/" + s.Address.Steps[0].Key
		f, err := m.Project.Chest.At(c.Tree, name)
		if err != nil {
			return chest.Explain(err)
		}
		if data, is := before[name]; is && f.Mode != 0 && f.Digest == element.DigestOf(data) {
			s.Loss, s.Effect = "", step.Instant
		}
	}
	return nil
}

// notUnfinished finds deployments that were cut off since the last one that ended.
func (m *Mover) notUnfinished(ctx context.Context, d *Deployment) error {
	kept, err := m.Project.Chest.KeptSince(ctx, d.Environment.Name)
	for _, k := range kept {
		if k.Deployment != 0 {
			break
		}
		d.Unfinished = k.Time
		d.unfinished = append(d.unfinished, k.ID)
	}
	return err
}

// onlyMine gives what the environment holds, with this person's objects as they are
// declared.
func (m *Mover) onlyMine(ctx context.Context, d *Deployment, declared environment.Files) (environment.Files, error) {
	got, err := whole(ctx, d.driver, declared)
	if err != nil {
		return nil, err
	}
	files, _, err := m.onlyMineIn(ctx, d.Environment, got.Files, declared)
	return files, err
}

// Close lets go of the environment.
func (d *Deployment) Close() error {
	if d.release != nil {
		d.release()
		d.release = nil
	}
	if d.driver == nil {
		return nil
	}
	driver := d.driver
	d.driver = nil
	return driver.Close()
}

// Deploy carries a prepared deployment out, proves that the environment then
// holds what the commit declares, and records it.
func (m *Mover) Deploy(ctx context.Context, d *Deployment, o DeployOptions) (err error) {
	if err := m.Stands(ctx, d, o); err != nil {
		return err
	}
	if m.elsewhere(ctx, d.Environment.Name) {
		return m.deployThere(ctx, d, o)
	}
	if err := m.mayRun(ctx, m.runsAfter(ctx, d.Environment)); err != nil {
		return err
	}
	defer func() { m.attempted(ctx, d.Environment.Name, ActionDeploy, err) }()
	if d.Part {
		err = m.deployPart(ctx, d, o)
	} else {
		err = m.deployAs(ctx, d, o, account{action: ActionDeploy, lane: d.Environment.Lane, source: d.Commit.ID, reason: o.Reason,
			plan: o.follow})
	}
	if err != nil {
		return err
	}
	return m.afterwards(ctx, d, o.After)
}

// deployPart carries out what is deployed of this person's objects alone. The environment's
// record becomes what it was, with those objects: the rest stays what somebody changed there.
func (m *Mover) deployPart(ctx context.Context, d *Deployment, o DeployOptions) error {
	began := m.Now()
	r, known, err := m.record(ctx, d.Environment)
	if err != nil {
		return err
	}
	if !known {
		return m.change(ctx, d, o)
	}
	kept, err := m.carryOut(ctx, d, o)
	if err != nil {
		return err
	}
	w := m.Project
	was, err := holding(ctx, w.CommitState(r.Commit, label(r.Commit)), d.Environment)
	if err != nil {
		return err
	}
	declared, err := holding(ctx, w.CommitState(d.Commit, d.Label), d.Environment)
	if err != nil {
		return err
	}
	mixed, _, err := m.onlyMineIn(ctx, d.Environment, was, declared)
	if err != nil {
		return err
	}
	tree, err := w.TreeWith(ctx, r.Commit.Tree, edits(was, mixed))
	if err != nil {
		return err
	}
	var x chest.Conclusion
	if whole, err := w.SameIn(d.Environment.Folders(), tree, d.Commit.Tree); err != nil {
		return err
	} else if !whole {
		line, fresh, err := w.Chest.Line(ctx, d.Environment.Name, r.Commit)
		if err != nil {
			return err
		}
		if line.Author, line.Time = w.Person, began; fresh {
			x.NewBranch = line
		}
		x.Drafts = []chest.Draft{{Branch: line.Name, Tip: r.Commit.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: began,
			Message: "What " + w.Person + " changed, as " + d.Label + " has it"}}
	}
	_, err = m.conclude(ctx, d, kept, account{action: ActionDeploy, lane: d.Environment.Lane, source: d.Commit.ID, reason: o.Reason,
		began: began}, x, o.Source)
	return err
}

// deployAs carries a deployment out and records it under a word.
func (m *Mover) deployAs(ctx context.Context, d *Deployment, o DeployOptions, a account) error {
	a.began = m.Now()
	if a.moved == nil {
		var err error
		if a.moved, err = m.comesWith(ctx, d.Environment.Name, d.Commit); err != nil {
			return err
		}
	}
	kept, err := m.carryOut(ctx, d, o)
	if err != nil {
		return err
	}
	_, err = m.conclude(ctx, d, kept, a, chest.Conclusion{}, o.Source)
	return err
}

// comesWith lists the work that a commit brings to an environment.
func (m *Mover) comesWith(ctx context.Context, name string, c ledger.Commit) (out []ledger.Commit, err error) {
	err = arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) error {
		out, err = r.Brings(m.Project.Chest.RecordName(name), c)
		return err
	})
	return out, err
}

// change carries out what is no deployment of a commit.
func (m *Mover) change(ctx context.Context, d *Deployment, o DeployOptions) error {
	kept, err := m.carryOut(ctx, d, o)
	if err != nil || kept == 0 {
		return err
	}
	err = m.Project.Chest.Changed(ctx, kept)
	if err == nil {
		d.recorded(ctx)
	}
	return err
}

// recorded lets the target forget which data steps it ran: the chest knows. What stays there
// because the target can't be reached any more does no harm.
func (d *Deployment) recorded(ctx context.Context) {
	if d.Plan.Recorded != nil {
		_ = d.Plan.Recorded(ctx)
	}
}

// carryOut runs the steps of a deployment. Before that, what the environment holds and
// what would be lost is kept in the chest; kept is the number of that record, 0 for
// none.
func (m *Mover) carryOut(ctx context.Context, d *Deployment, o DeployOptions) (kept int64, err error) {
	if err := d.losing(o); err != nil {
		return 0, err
	}
	if len(d.Plan.Steps) > 0 {
		if err := m.onlyThere(ctx, d.Environment.Name); err != nil {
			return 0, err
		}
		if kept, err = m.keep(ctx, d); err != nil {
			return 0, err
		}
		k, ok, err := m.Project.Chest.KeptAs(ctx, kept)
		if err != nil || !ok {
			return 0, err
		}
		d.Plan.Token = token(k)
		if err := d.Plan.Apply(ctx, o.Done); err != nil {
			if d.Plan.Whole() || environment.NothingDone(err) { // nothing was changed
				err = errors.Join(err, m.Project.Chest.Forget(context.WithoutCancel(ctx), kept))
			}
			return 0, err
		}
	}
	d.Done = true
	return kept, nil
}

// The folders of what is kept of an environment: the files that say what it held, and
// the rows that the deployment loses, by path in the project. Records from before
// environments had several targets have the names below the only folder instead.
const (
	keptWas  = "was/"
	keptGone = "gone/"

	keptBefore = "before/"
	keptLost   = "lost/"
)

// keep stores what the environment holds, and what would be lost.
func (m *Mover) keep(ctx context.Context, d *Deployment) (int64, error) {
	before, err := d.Plan.Before(ctx)
	if err != nil {
		return 0, err
	}
	var list []chest.KeptFile
	for name, data := range before {
		list = append(list, chest.InMemory(keptWas+name, data))
	}
	if d.Plan.Save != nil && d.Plan.Keeps() {
		folder := filepath.Join(m.Desk.SavesRows(), m.Now().UTC().Format("2006-01-02T150405.000Z"), d.Environment.Name)
		if err := d.Plan.Save(ctx, folder); err != nil {
			return 0, err
		}
		d.Saved = folder
		gone := keptGone
		if len(d.Environment.Also) == 0 {
			gone += d.Environment.Into + "/"
		}
		err := filepath.WalkDir(folder, func(p string, e fs.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() {
				rel, _ := filepath.Rel(folder, p)
				list = append(list, chest.KeptFile{Name: gone + filepath.ToSlash(rel),
					Open: func() (io.ReadCloser, error) { return os.Open(p) }})
			}
			return err
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return 0, err
		}
	}
	return m.Project.Chest.Keep(ctx, d.Environment.Name, list, m.Now())
}
