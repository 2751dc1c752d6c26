package pipeline

import (
	"context"
	"fmt"
	"slices"

	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Approval is what somebody said of what would be promoted to an environment.
type Approval struct {
	From   string
	Commit ledger.Commit
	// Work lists what would come, the oldest first.
	Work []ledger.Commit
	// Settled lists what people chose where the work was in conflict: it is approved so.
	Settled []ledger.Chosen
	// Gates is how the gates that ask for approvals or signals stand then.
	Gates []GateResult
}

// ApproveOptions say what is approved.
type ApproveOptions struct {
	// From is the environment that it would come from; empty where one move alone leads there.
	From string
	Text string
	// Signal is the gate that it is a signal for, and for nothing else; empty for an approval of the work.
	Signal string
	// Withdraw takes an earlier one back.
	Withdraw bool
}

// Ways lists the environments that moves to one begin in.
func (m *Mover) Ways(ctx context.Context, to string) ([]string, error) {
	if _, err := m.declaration(ctx, to); err != nil {
		return nil, err
	}
	return names(m.rules(ctx).Into(to), beginning), nil
}

// approvable finds what would be promoted to an environment.
func (m *Mover) approvable(ctx context.Context, l *landscape.Landscape, to, from string) (*Promotion, error) {
	ways, err := m.Ways(ctx, to)
	if err != nil {
		return nil, err
	}
	switch {
	case from != "":
	case len(ways) == 0:
		return nil, fault.New(fault.Usage, "Name where it would come from: oaken approve "+fault.Word(to)+" --from ENV.",
			"No move leads to %s.", to)
	case len(ways) > 1:
		return nil, fault.New(fault.Usage, "Name one: oaken approve "+fault.Word(to)+" --from ENV.",
			"Several moves lead to %s: from %s.", to,
			listAnd(ways))
	default:
		from = ways[0]
	}
	p, err := m.ends(ctx, l, from, to)
	if err == nil {
		err = m.settledFor(ctx, l, p)
	}
	return p, err
}

// Approvable tells what somebody would approve, and how the gates stand that ask for it.
func (m *Mover) Approvable(ctx context.Context, to, from string) (*Approval, error) {
	l := m.rules(ctx)
	p, err := m.approvable(ctx, l, to, from)
	if err != nil {
		return nil, err
	}
	return m.approvalOf(ctx, l, p)
}

// Approve records that this workspace's person wants what an environment holds in the next one, or gives a signal for
// it.
func (m *Mover) Approve(ctx context.Context, to string, o ApproveOptions) (*Approval, error) {
	l := m.rules(ctx)
	p, err := m.approvable(ctx, l, to, o.From)
	if err != nil {
		return nil, err
	}
	if o.Signal != "" {
		if err := m.maySignal(l, p, o.Signal); err != nil {
			return nil, err
		}
	}
	if err := m.Project.Chest.Agree(ctx, m.assentOf(p, o)); err != nil {
		return nil, err
	}
	return m.approvalOf(ctx, l, p)
}

// approvalOf tells what a promotion brings, and how its gates stand that ask people.
func (m *Mover) approvalOf(ctx context.Context, l *landscape.Landscape, p *Promotion) (*Approval, error) {
	out := &Approval{From: p.From.Name, Commit: p.Source, Work: p.Moving, Settled: p.Settled}
	for _, name := range l.Gates(p.Move) {
		g, ok := l.Manifest.Pipeline.Gate(name)
		r := GateResult{Name: name}
		var err error
		switch {
		case !ok:
			continue
		case g.Needs == manifest.NeedsSignal:
			err = m.signalGate(ctx, l, p, g, &r)
		case g.Approvals == 0 && len(g.By) == 0:
			continue
		default:
			err = m.approvalGate(ctx, l, p, g, &r)
		}
		if err != nil {
			return nil, err
		}
		r.judge()
		out.Gates = append(out.Gates, r)
	}
	return out, nil
}

// settledFor finds out what moves, as people settled it where a promotion is being settled.
func (m *Mover) settledFor(ctx context.Context, l *landscape.Landscape, p *Promotion) error {
	all, err := m.Project.Chest.PendingPromotions(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(all, func(s ledger.Pending) bool { return s.Origin == p.From.Name && s.Target == p.To.Name }) {
		return m.compareHistories(ctx, l, p)
	}
	s, err := m.Settling(ctx, p.From.Name, p.To.Name)
	if err != nil {
		return err
	}
	if n := len(s.Open); n > 0 {
		return fault.New(fault.Conflict, "Approve it when all is settled: oaken conflicts --to "+fault.Word(p.To.Name)+".",
			"Of the promotion from %s to %s %s still open.", p.From.Name, p.To.Name, openOnes(n))
	}
	*p = *s.p
	return nil
}

func openOnes(n int) string {
	if n == 1 {
		return "1 conflict is"
	}
	return fmt.Sprintf("%d conflicts are", n)
}
