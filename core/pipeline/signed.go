package pipeline

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// PlanOf writes a prepared deployment down as data.
func (m *Mover) PlanOf(ctx context.Context, d *Deployment, o DeployOptions) (*PlanFile, error) {
	if d.Part {
		return nil, fault.New(fault.Usage, "Leave --mine out.",
			"What is yours depends on who asks, so a plan for it can't be followed by others.")
	}
	f, err := m.planFile(ctx, d)
	if err != nil {
		return nil, err
	}
	f.Chosen.Source, f.Chosen.Loss, f.Chosen.Drift = o.Source, o.AllowLoss, o.ReplaceDrift
	f.Commit = d.Commit.ID.String()
	moved, err := m.comesWith(ctx, d.Environment.Name, d.Commit)
	f.Work = plannedWork(moved)
	return f, err
}

// PlanOfPromotion writes a prepared promotion down as data.
func (m *Mover) PlanOfPromotion(ctx context.Context, p *Promotion, o PromoteOptions) (*PlanFile, error) {
	if err := p.inTheWay(); err != nil {
		return nil, err
	}
	if p.Deployment == nil {
		return nil, missingNeeds(p)
	}
	f, err := m.planFile(ctx, p.Deployment)
	if err != nil {
		return nil, err
	}
	f.From, f.Lane, f.State, f.Commit, f.Work = p.From.Name, p.Lane, label(p.Source), p.Source.ID.String(), plannedWork(p.Moving)
	f.Chosen.Item, f.Chosen.Items, f.Chosen.Paths, f.Chosen.WithNeeded, f.Chosen.Again = o.Item, o.Items, o.Paths, o.WithNeeded, o.Again
	f.Chosen.Loss = o.AllowLoss
	return f, nil
}

func plannedWork(list []ledger.Commit) []PlannedWork {
	out := []PlannedWork{}
	for _, c := range list {
		first, _, _ := strings.Cut(c.Message, "\n")
		out = append(out, PlannedWork{label(c), c.Item, c.Author, first})
	}
	return out
}

// planFile writes down what deployments and promotions have in common.
func (m *Mover) planFile(ctx context.Context, d *Deployment) (*PlanFile, error) {
	parts, err := d.Plan.Write(ctx)
	if err != nil {
		return nil, err
	}
	for i, s := range d.Environment.Sites() {
		parts[i].Target = environment.Shown(s.Target)
	}
	r, known, err := m.record(ctx, d.Environment)
	f := &PlanFile{Format: PlanFormat, Project: m.Project.Manifest.Project, Environment: d.Environment.Name, Made: m.Now().UTC(),
		By: m.Project.Person, State: d.Label, Losses: d.Plan.Loses(), Unknown: d.Unknown, Targets: parts,
		Chosen: PlanChoice{Fill: m.Fill, DataSteps: m.DataSteps}}
	if len(f.Chosen.Fill) == 0 {
		f.Chosen.Fill = nil
	}
	if known {
		f.Record = r.Commit.ID.String()
	}
	return f, err
}

// PlanApproval is what somebody said of a plan.
type PlanApproval struct {
	Plan *PlanFile
	// By lists who approves it now.
	By []string
}

// ApprovePlan records that this workspace's person wants a plan carried out just as it is written; with withdraw that
// is taken back. It counts for that plan, and for no other that may be made of the same work.
func (m *Mover) ApprovePlan(ctx context.Context, to string, f *PlanFile, text string, withdraw bool) (*PlanApproval, error) {
	if err := m.planIsFor(ctx, to, f); err != nil {
		return nil, err
	}
	id, err := m.planCommit(ctx, f)
	if err != nil {
		return nil, err
	}
	err = m.Project.Chest.Agree(ctx, ledger.Assent{Environment: to, Commit: id.ID, Person: m.Project.Person, Time: m.Now(), Text: text,
		Withdrawn: withdraw, Plan: f.Sum()})
	if err != nil {
		return nil, err
	}
	by, err := m.signers(ctx, f, id.ID)
	return &PlanApproval{f, by}, err
}

// planIsFor refuses a plan of another environment or project.
func (m *Mover) planIsFor(ctx context.Context, to string, f *PlanFile) error {
	if _, err := m.declaration(ctx, to); err != nil {
		return err
	}
	if f.Environment != to || f.Project != m.Project.Manifest.Project {
		return fault.New(fault.Refused, "Name the environment that it was made for.", "That plan is one for %s of %s.", f.Environment,
			f.Project)
	}
	return nil
}

func (m *Mover) planCommit(ctx context.Context, f *PlanFile) (ledger.Commit, error) {
	c, err := m.Project.Chest.Resolve(ctx, f.Commit)
	if err != nil || c.ID.String() != f.Commit {
		return c, fault.New(fault.Refused, "Make the plan anew in this project.", "The plan brings %s, and no commit here has that id.",
			f.State)
	}
	return c, nil
}

// signers lists who approves a plan.
func (m *Mover) signers(ctx context.Context, f *PlanFile, commit ledger.ID) (out []string, err error) {
	given, err := m.Project.Chest.Assents(ctx, f.Environment, commit)
	for _, a := range given {
		if a.Plan == f.Sum() {
			out = append(out, a.Person)
		}
	}
	return out, err
}

// signed refuses a plan that nobody approves.
func (m *Mover) signed(ctx context.Context, f *PlanFile) error {
	c, err := m.planCommit(ctx, f)
	if err != nil {
		return err
	}
	by, err := m.signers(ctx, f, c.ID)
	if err == nil && len(by) == 0 {
		err = fault.New(fault.Refused, "Let somebody read it who knows the target, and say: oaken approve "+fault.Word(f.Environment)+
			" --plan FILE.", "Nobody has approved this plan as it is written.")
	}
	return err
}

// Following prepares the deployment that a plan describes. It is refused when it would be another one by now.
func (m *Mover) Following(ctx context.Context, to string, f *PlanFile) (*Deployment, DeployOptions, error) {
	if err := m.followable(ctx, to, f, ""); err != nil {
		return nil, DeployOptions{}, err
	}
	m.Fill, m.DataSteps = f.Chosen.Fill, f.Chosen.DataSteps
	c, err := m.planCommit(ctx, f)
	if err != nil {
		return nil, DeployOptions{}, err
	}
	d, err := m.Prepare(ctx, to, c, false)
	if err != nil {
		return nil, DeployOptions{}, err
	}
	o := DeployOptions{AllowLoss: f.Chosen.Loss, ReplaceDrift: f.Chosen.Drift, Source: f.Chosen.Source, follow: f}
	now, err := m.PlanOf(ctx, d, o)
	if err == nil {
		err = f.moved(now)
	}
	if err != nil {
		return nil, o, closing(d, err)
	}
	return d, o, nil
}

func closing(d *Deployment, err error) error {
	_ = d.Close() // the error says what is wrong
	return err
}

// FollowingPromotion gives the options of the promotion that a plan describes, to be prepared with.
func (m *Mover) FollowingPromotion(ctx context.Context, from, to string, f *PlanFile) (PromoteOptions, error) {
	if err := m.followable(ctx, to, f, from); err != nil {
		return PromoteOptions{}, err
	}
	m.Fill, m.DataSteps = f.Chosen.Fill, f.Chosen.DataSteps
	return PromoteOptions{Lane: f.Lane, Item: f.Chosen.Item, Items: f.Chosen.Items, Paths: f.Chosen.Paths, WithNeeded: f.Chosen.WithNeeded,
		Again: f.Chosen.Again, AllowLoss: f.Chosen.Loss, follow: f}, nil
}

// followable refuses a plan of something else, and one that nobody approves.
func (m *Mover) followable(ctx context.Context, to string, f *PlanFile, from string) error {
	if err := m.planIsFor(ctx, to, f); err != nil {
		return err
	}
	if f.From != from {
		call := "oaken deploy " + fault.Word(f.Environment)
		if f.From != "" {
			call = "oaken promote " + fault.Word(f.From) + " " + fault.Word(f.Environment)
		}
		return fault.New(fault.Usage, "It is followed with "+call+" --follow FILE.", "That plan is one of another kind of move.")
	}
	return m.signed(ctx, f)
}

// holdsTo refuses a promotion that is not the one of the plan which is followed.
func (m *Mover) holdsTo(ctx context.Context, p *Promotion, o PromoteOptions) error {
	if o.follow == nil {
		return nil
	}
	now, err := m.PlanOfPromotion(ctx, p, o)
	if err == nil {
		err = o.follow.moved(now)
	}
	return err
}

// moved says what has become of a plan: an error names the first thing in which it would be another one now.
func (f *PlanFile) moved(now *PlanFile) error {
	refuse := func(format string, args ...any) error {
		return fault.New(fault.Refused, "Nothing was changed. Make the plan anew, and let it be approved.", format, args...)
	}
	switch {
	case f.Commit != now.Commit:
		return refuse("%s holds %s now, and the plan brings %s.", f.From, now.State, f.State)
	case f.Record != now.Record:
		return refuse("%s was deployed to since the plan was made: it is known to hold something else.", f.Environment)
	case len(f.Targets) != len(now.Targets):
		return refuse("%s has other targets now.", f.Environment)
	}
	for i, t := range f.Targets {
		n := now.Targets[i]
		switch {
		case t.Folder != n.Folder || t.Target != n.Target:
			return refuse("%s has other targets now: %s instead of %s.", f.Environment, n.Target, t.Target)
		case t.Was != n.Was:
			return refuse("%s has changed since the plan was made.", t.Target)
		case t.Becomes != n.Becomes:
			return refuse("%s would come to hold something else than by the plan.", t.Target)
		case len(t.Steps) != len(n.Steps):
			return refuse("The plan has %s for %s, and there would be %d now.", stepCount(len(t.Steps)), t.Target, len(n.Steps))
		}
		for k := range t.Steps {
			if !sameStep(t.Steps[k], n.Steps[k]) {
				return refuse("Step %d for %s would not be the one that is written: %s.", k+1, t.Target, n.Steps[k].What)
			}
		}
		if !slices.Equal(t.Stays, n.Stays) {
			return refuse("Other data steps would stay in %s than by the plan.", t.Target)
		}
	}
	if !slices.Equal(f.Losses, now.Losses) || !slices.Equal(f.Unknown, now.Unknown) {
		return refuse("Something else would be lost than the plan says.")
	}
	again := *now
	again.Made, again.By, again.Lane = f.Made, f.By, f.Lane
	if !reflect.DeepEqual(f.Work, again.Work) {
		return refuse("Other work would come than the plan lists.")
	}
	if again.Sum() != f.Sum() { // what no comparison above looks at
		return refuse("The plan would be another one now.")
	}
	return nil
}

func stepCount(n int) string {
	if n == 1 {
		return "1 step"
	}
	return fmt.Sprintf("%d steps", n)
}

func sameStep(a, b environment.WrittenStep) bool {
	return a.Address == b.Address && a.What == b.What && a.Effect == b.Effect && a.Loses == b.Loses && a.Apart == b.Apart &&
		a.Mode == b.Mode && a.Session == b.Session && a.Runs == b.Runs && a.Back == b.Back && slices.Equal(a.Statements, b.Statements)
}
