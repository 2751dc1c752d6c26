package pipeline

import (
	"context"
	"errors"
	"slices"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Attended is what a mover has that works at the server, for who asks from afar.
type Attended struct {
	// Reachable refuses environments that are not reached from the server.
	Reachable func(e manifest.Environment) error
	// Holds says what those hold that can't be reached from there, as who asks found it.
	Holds map[string]ledger.ID
}

// Respond answers a question about a target.
func (m *Mover) Respond(ctx context.Context, at Spot, q environment.Question) (out environment.Answer, err error) {
	env, err := m.declaration(ctx, at.Environment)
	if err != nil {
		return out, unpublished(at.Environment, err)
	}
	i := slices.IndexFunc(env.Sites(), func(s manifest.Site) bool { return s.Into == at.Into })
	if i < 0 {
		return out, fault.New(fault.Refused, "Commit oaken.toml to the first branch, whose rules count at the server.",
			"By the rules at the server, %s has nothing in %s.", env.Name, at.Into)
	}
	m.Fill = at.Fill
	d, err := m.reach(ctx, env.Name, env.Sites()[i])
	if err != nil {
		return environment.RespondTo(err)
	}
	out, err = environment.Respond(ctx, d, q)
	return out, errors.Join(err, d.Close())
}

// unpublished says that the server does not know an environment.
func unpublished(name string, err error) error {
	if fault.CodeOf(err) != fault.Usage {
		return err
	}
	return fault.New(fault.Refused, "Commit oaken.toml to the first branch, whose rules count at the server.",
		"The server knows no environment %s yet.", name)
}

// Attend carries an errand out. The report is good beside an error too.
func (m *Mover) Attend(ctx context.Context, e Errand, told func(Sign)) (*Report, error) {
	if _, err := m.declaration(ctx, e.Environment); err != nil {
		return nil, unpublished(e.Environment, err)
	}
	m.Fill, m.DataSteps = e.Fill, e.DataSteps
	m.Counting = func(table string, done, of int) { told(Sign{Table: table, Done: done, Of: of}) }
	e.Deploy.Done = func(step int) { told(Sign{Step: step}) }
	e.Deploy.After = func(name string) { told(Sign{After: name}) }
	r := &Report{}
	switch e.Do {
	case ActionDeploy:
		return r, m.attendDeploy(ctx, e, r)
	case errandUndo:
		return r, m.attendUndo(ctx, e, r)
	case ActionPromote:
		return r, m.attendPromotion(ctx, e, r, told)
	case ActionRollback:
		return r, m.attendRollback(ctx, e, r)
	case ActionWithdraw:
		return r, m.attendWithdrawal(ctx, e, r)
	case ActionRefresh:
		e.Refresh.Told = func(what string) { told(Sign{Told: what}) }
		e.Refresh.After = e.Deploy.After
		var err error
		r.Refreshed, err = m.Refresh(ctx, e.Environment, e.From, e.Refresh)
		return r, err
	case errandProve:
		var err error
		r.After, err = m.Prove(ctx, e.Environment, e.Deploy.After)
		return r, err
	case errandLog:
		var err error
		r.Already, err = m.PrepareLog(ctx, e.Environment, e.Remove)
		return r, err
	case errandPlanned:
		return r, m.attendPlanned(ctx, e)
	}
	return nil, fault.New(fault.Usage, "Use the same version of oaken at both ends.", "The server does not know how to %q.", e.Do)
}

// shown refuses to carry out another plan than the one that was shown.
func (m *Mover) shown(ctx context.Context, d *Deployment, e Errand) error {
	now, err := m.seen(ctx, d)
	if err == nil && now != e.Seen {
		err = fault.New(fault.Refused, "Run the command again to see what would be done now; nothing was changed.",
			"%s is not as it was when you looked, or the rules at the server are others.", d.Environment.Name)
	}
	return err
}

// takeFrom notes what came of a deployment.
func (r *Report) takeFrom(d *Deployment) {
	r.Done, r.Kept, r.After = d.Done, d.Saved != "", d.After
}

func (m *Mover) attendDeploy(ctx context.Context, e Errand, r *Report) error {
	d, o, err := m.prepared(ctx, e)
	if err != nil {
		return err
	}
	if err = m.shown(ctx, d, e); err == nil {
		err = m.Deploy(ctx, d, o)
	}
	r.takeFrom(d)
	return errors.Join(err, d.Close())
}

func (m *Mover) prepared(ctx context.Context, e Errand) (*Deployment, DeployOptions, error) {
	if e.Follow != nil {
		d, o, err := m.Following(ctx, e.Environment, e.Follow)
		o.Done, o.After = e.Deploy.Done, e.Deploy.After
		return d, o, err
	}
	c, err := m.Project.Chest.Commit(ctx, e.Commit)
	if err != nil {
		return nil, e.Deploy, err
	}
	d, err := m.Prepare(ctx, e.Environment, c, e.Mine)
	return d, e.Deploy, err
}

func (m *Mover) attendUndo(ctx context.Context, e Errand, r *Report) error {
	d, err := m.UndoDrift(ctx, e.Environment)
	if err != nil {
		return err
	}
	if err = m.shown(ctx, d, e); err == nil {
		err = m.Undo(ctx, d, e.Deploy)
	}
	r.takeFrom(d)
	return errors.Join(err, d.Close())
}

func (m *Mover) attendPromotion(ctx context.Context, e Errand, r *Report, told func(Sign)) (err error) {
	o := e.Promote
	if e.Follow != nil {
		if o, err = m.FollowingPromotion(ctx, e.From, e.Environment, e.Follow); err != nil {
			return err
		}
		o.Override, o.Reason, o.Expect = e.Promote.Override, e.Promote.Reason, e.Promote.Expect
	}
	o.Done = e.Deploy.Done
	o.Gate = func(name string) { told(Sign{Gate: name}) }
	m.At.Holds = map[string]ledger.ID{e.From: e.Holds}
	p, err := m.PreparePromotion(ctx, e.From, e.Environment, o)
	if err != nil {
		return err
	}
	if p.Deployment != nil {
		err = m.shown(ctx, p.Deployment, e)
	}
	if err == nil {
		err = m.Promote(ctx, p, o)
	}
	r.Commit, r.Shipped, r.Gates, r.Outputs = p.Commit, p.Shipped, p.Gates, map[string]string{}
	for _, g := range p.Gates {
		r.Outputs[g.Name] = g.Output
	}
	if p.Deployment != nil {
		r.takeFrom(p.Deployment)
	}
	return errors.Join(err, p.Close())
}

func (m *Mover) attendRollback(ctx context.Context, e Errand, r *Report) error {
	x, err := m.PrepareRollback(ctx, e.Environment, e.To)
	if err != nil {
		return err
	}
	if err = m.shown(ctx, &x.Deployment, e); err == nil {
		err = m.Rollback(ctx, x, e.Deploy)
	}
	r.takeFrom(&x.Deployment)
	r.Made, r.StillOn, r.Filled = x.Made, x.StillOn, x.Filled
	return errors.Join(err, x.Close())
}

func (m *Mover) attendWithdrawal(ctx context.Context, e Errand, r *Report) error {
	x, err := m.PrepareWithdrawal(ctx, e.Environment, e.Withdraw)
	if err != nil {
		return err
	}
	if err = m.shown(ctx, &x.Deployment, e); err == nil {
		err = m.Withdraw(ctx, x, e.Deploy)
	}
	r.takeFrom(&x.Deployment)
	r.Commit = x.Commit
	return errors.Join(err, x.Close())
}

// attendPlanned carries out a promotion that somebody planned, as who planned it, once it is due.
func (m *Mover) attendPlanned(ctx context.Context, e Errand) error {
	m.At.Holds = map[string]ledger.ID{e.From: e.Holds}
	list, err := m.Planned(ctx, false)
	if err != nil {
		return err
	}
	for _, p := range list {
		if p.ID == e.Number && p.Target == e.Environment && !p.Due.After(m.Now()) {
			return m.carryOutPlanned(ctx, p)
		}
	}
	return fault.New(fault.Refused, "oaken promote --planned lists them.", "There is no promotion %d that is due.", e.Number)
}
