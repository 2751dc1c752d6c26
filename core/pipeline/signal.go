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

// signalGate asks that somebody who may has said that something outside is green for just this work.
func (m *Mover) signalGate(ctx context.Context, l *landscape.Landscape, p *Promotion, g manifest.Gate, r *GateResult) error {
	given, err := m.Project.Chest.Assents(ctx, p.To.Name, p.Source.ID)
	if err != nil {
		return err
	}
	for _, a := range given {
		if a.Gate == g.Name && a.Tree == p.approvedTree() && l.Manifest.Team.Plays(a.Person, g.By) {
			r.Said = "signalled by " + a.Person + " on " + a.Time.Local().Format("2006-01-02 15:04")
			if a.Text != "" {
				r.Said += ": " + a.Text
			}
			return nil
		}
	}
	r.Said = "no signal for this work"
	r.Do = fmt.Sprintf("%s gives it: oaken approve %s --signal %s%s.", listAnd(g.By), fault.Word(p.To.Name), fault.Word(g.Name),
		fromFlag(l, p))
	return nil
}

// maySignal refuses a signal that would open nothing.
func (m *Mover) maySignal(l *landscape.Landscape, p *Promotion, gate string) error {
	var names []string
	for _, name := range l.Gates(p.Move) {
		if g, ok := l.Manifest.Pipeline.Gate(name); ok && g.Needs == manifest.NeedsSignal {
			names = append(names, name)
		}
	}
	if !slices.Contains(names, gate) {
		hint := "No gate of that move waits for a signal."
		if len(names) > 0 {
			hint = "Gates that wait for one: " + listAnd(names) + "."
		}
		return fault.New(fault.Usage, hint, "The move from %s to %s has no gate %s that waits for a signal.", p.From.Name, p.To.Name, gate)
	}
	g, _ := l.Manifest.Pipeline.Gate(gate)
	if !l.Manifest.Team.Plays(m.Project.Person, g.By) {
		return fault.New(fault.Refused, "Ask them for it.", "%s gives the signal for %s, so %s can't.", listAnd(g.By), gate,
			m.Project.Person)
	}
	return nil
}

// assentOf is what this workspace's person says of a promotion.
func (m *Mover) assentOf(p *Promotion, o ApproveOptions) ledger.Assent {
	return ledger.Assent{Environment: p.To.Name, Commit: p.Source.ID, Person: m.Project.Person, Time: m.Now(), Text: o.Text,
		Withdrawn: o.Withdraw, Tree: p.approvedTree(), Gate: o.Signal}
}
