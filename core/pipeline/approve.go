package pipeline

import (
	"context"
	"fmt"
	"slices"

	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
)

// Approval is what somebody said of what would be promoted to an environment.
type Approval struct {
	From   string
	Commit ledger.Commit
	// Settled lists what people chose where the work was in conflict: it is approved so.
	Settled []ledger.Chosen
	// Gates is how the gates that ask for approvals stand then.
	Gates []GateResult
}

// Approve records that this workspace's person wants what an environment holds in the next
// one; from may be empty where one move alone leads there. With withdraw, the person takes
// that back.
func (m *Mover) Approve(ctx context.Context, to, from, text string, withdraw bool) (*Approval, error) {
	l := m.rules(ctx)
	if _, err := m.declaration(ctx, to); err != nil {
		return nil, err
	}
	moves := l.Into(to)
	if from == "" {
		switch len(moves) {
		case 0:
			return nil, fault.New(fault.Usage, "Name where it would come from: oaken approve "+fault.Word(to)+" --from ENV.",
				"No move leads to %s.", to)
		case 1:
			from = moves[0].From
		default:
			return nil, fault.New(fault.Usage, "Name one: oaken approve "+fault.Word(to)+" --from ENV.",
				"Several moves lead to %s: from %s.", to, listAnd(names(moves, beginning)))
		}
	}
	p, err := m.ends(ctx, l, from, to)
	if err != nil {
		return nil, err
	}
	if err := m.settledFor(ctx, l, p); err != nil {
		return nil, err
	}
	err = m.Project.Chest.Agree(ctx, ledger.Assent{Environment: to, Commit: p.Source.ID, Person: m.Project.Person, Time: m.Now(),
		Text: text, Withdrawn: withdraw, Tree: p.approvedTree()})
	if err != nil {
		return nil, err
	}
	out := &Approval{From: from, Commit: p.Source, Settled: p.Settled}
	for _, name := range l.Gates(p.Move) {
		g, ok := l.Manifest.Pipeline.Gate(name)
		if !ok || g.Approvals == 0 && len(g.By) == 0 {
			continue
		}
		r := GateResult{Name: name}
		if err := m.approvalGate(ctx, l, p, g, &r); err != nil {
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
