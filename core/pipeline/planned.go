package pipeline

import (
	"context"
	"errors"
	"slices"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// The words for what a planned promotion was asked with.
const (
	withNeeded = "needed"
	withAgain  = "again"
	withLoss   = "loss"
)

// PlanAt records that a promotion is to happen at a time, of just the work that is there now. What could not go then, as
// far as anybody can tell, is refused at once: its gates are judged as if it were that time.
func (m *Mover) PlanAt(ctx context.Context, from, to string, o PromoteOptions, due time.Time) (*ledger.Planned, error) {
	if !due.After(m.Now()) {
		return nil, fault.New(fault.Usage, "Name a time that is to come.", "%s is over.", due.Local().Format("2006-01-02 15:04"))
	}
	then := *m
	then.Now = func() time.Time { return due }
	p, err := then.PreparePromotion(ctx, from, to, o)
	if err != nil {
		return nil, err
	}
	defer func() { _ = p.Close() }()
	if p.Nothing() && !o.some() {
		return nil, fault.New(fault.Refused, "Plan it when there is work.", "%s has everything that %s has.", to, from)
	}
	if err := then.passable(ctx, p, o); err != nil {
		return nil, err
	}
	w := m.Project
	out := ledger.Planned{Origin: from, Target: to, Commit: p.Source.ID, Lane: o.Lane, Item: o.Item, Items: o.Items, Paths: o.Paths,
		Override: o.Override,
		Reason:   o.Reason, Person: w.Person, Workspace: w.Name, Asked: m.Now(), Due: due}
	for word, is := range map[string]bool{withNeeded: o.WithNeeded, withAgain: o.Again, withLoss: o.AllowLoss} {
		if is {
			out.Options = append(out.Options, word)
		}
	}
	slices.Sort(out.Options)
	out.ID, err = w.Chest.Plan(ctx, out)
	return &out, err
}

// passable refuses a promotion that could not be carried out, without running the commands of its gates.
func (m *Mover) passable(ctx context.Context, p *Promotion, o PromoteOptions) error {
	l := m.rules(ctx)
	if err := m.movable(ctx, p, o); err != nil {
		return err
	}
	if err := m.override(l, p, o); err != nil {
		return err
	}
	if shut := p.shut(); len(shut) > 0 {
		return shutError(p, shut)
	}
	if err := m.mayRun(ctx, m.runs(ctx, l, p)); err != nil { // nobody will be there to be asked
		return err
	}
	return p.Deployment.losing(DeployOptions{AllowLoss: o.AllowLoss})
}

// Planned lists the promotions that are to come, by when they are due; with all those that ended too.
func (m *Mover) Planned(ctx context.Context, all bool) ([]ledger.Planned, error) {
	list, err := m.Project.Chest.Planned(ctx)
	if !all {
		list = slices.DeleteFunc(list, func(p ledger.Planned) bool { return !p.Ended.IsZero() })
	}
	return list, err
}

// CallOff ends a planned promotion before its time.
func (m *Mover) CallOff(ctx context.Context, number int64) (*ledger.Planned, error) {
	list, err := m.Planned(ctx, false)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(p ledger.Planned) bool { return p.ID == number })
	if i < 0 {
		return nil, fault.New(fault.Usage, "oaken promote --planned lists them.", "There is no promotion %d that is to come.", number)
	}
	p := list[i]
	return &p, m.endPlanned(ctx, &p, ledger.PlannedOff, "")
}

func (m *Mover) endPlanned(ctx context.Context, p *ledger.Planned, outcome, said string) error {
	p.Ended, p.Outcome, p.By, p.Said = m.Now(), outcome, m.Project.Person, said
	return m.Project.Chest.EndPlanned(ctx, *p)
}

// CarryOutDue carries the promotions out that are due, each as who planned it, and tells each that ended. One that is
// refused or fails keeps no other from going. told, when set, hears of each before it begins.
func (m *Mover) CarryOutDue(ctx context.Context, told func(ledger.Planned)) (out []ledger.Planned, err error) {
	if due, err := m.anyDue(ctx); err != nil || !due {
		return nil, err
	}
	release, err := m.Project.Chest.ReserveDue(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	list, err := m.Planned(ctx, false)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if p.Due.After(m.Now()) {
			continue
		}
		if told != nil {
			told(p)
		}
		failed := m.carryOutPlanned(ctx, p)
		if err := ctx.Err(); err != nil {
			return out, err // it is due still
		}
		outcome, said := ledger.PlannedDone, ""
		if failed != nil {
			outcome, said = ledger.PlannedFailed, failed.Error()
			if code := fault.CodeOf(failed); code == fault.Refused || code == fault.Conflict || code == fault.Usage {
				outcome = ledger.PlannedRefused
			}
		}
		if err := m.endPlanned(ctx, &p, outcome, said); err != nil {
			return out, errors.Join(failed, err)
		}
		out = append(out, p)
	}
	return out, nil
}

// anyDue reports whether something is due.
func (m *Mover) anyDue(ctx context.Context) (bool, error) {
	list, err := m.Planned(ctx, false)
	return slices.ContainsFunc(list, func(p ledger.Planned) bool { return !p.Due.After(m.Now()) }), err
}

func (m *Mover) carryOutPlanned(ctx context.Context, p ledger.Planned) error {
	if m.elsewhere(ctx, p.Target) {
		from, err := m.Has(ctx, p.Origin) // the server may not reach it
		if err == nil {
			_, err = m.send(ctx, Errand{Do: errandPlanned, Environment: p.Target, From: p.Origin, Holds: from.ID, Number: p.ID}, nil)
		}
		return err
	}
	as := *m
	as.Project = m.Project.As(p.Person)
	o := PromoteOptions{Lane: p.Lane, Item: p.Item, Items: p.Items, Paths: p.Paths, Override: p.Override, Reason: p.Reason,
		Expect:     p.Commit,
		WithNeeded: slices.Contains(p.Options, withNeeded), Again: slices.Contains(p.Options, withAgain),
		AllowLoss: slices.Contains(p.Options, withLoss)}
	x, err := as.PreparePromotion(ctx, p.Origin, p.Target, o)
	if err != nil {
		return err
	}
	err = as.Promote(ctx, x, o)
	return errors.Join(err, x.Close())
}
