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

// Stand is how a move stands by the records alone: no environment is reached, and no command is run.
type Stand struct {
	Gates []GateResult
	// Open says that no gate is shut, as far as the records say.
	Open bool
	// Mine lists what this person can do for it: calls.
	Mine []string
}

// ToBeRun lists the gates whose commands are run when the work really moves.
func (s Stand) ToBeRun() (out []string) { return s.named(ToBeRun) }

// Shut lists the gates that are shut.
func (s Stand) Shut() (out []string) { return s.named(Shut) }

func (s Stand) named(v Verdict) (out []string) {
	for _, g := range s.Gates {
		if g.Verdict == v {
			out = append(out, g.Name)
		}
	}
	return out
}

// stand tells how a move stands whose beginning holds a commit; look is what was seen when its end was looked at last.
func (m *Mover) stand(ctx context.Context, l *landscape.Landscape, move manifest.Move, has ledger.Commit, look *ledger.Look,
	unfinished bool) (s Stand, err error) {
	p := &Promotion{Move: move, Source: has}
	if p.From, err = l.Manifest.Environment(move.From); err != nil {
		return s, nil // what is wrong with it, Check says
	}
	if p.To, err = l.Manifest.Environment(move.To); err != nil {
		return s, nil
	}
	p.Branch = l.Manifest.BranchOf(p.To)
	if err := m.chooseLane(l, p, ""); err != nil {
		return s, err
	}
	if err := m.compareHistories(ctx, l, p); err != nil {
		return s, err
	}
	if err := m.recordGates(ctx, l, p, look, unfinished); err != nil {
		return s, err
	}
	s.Gates, s.Open = p.Gates, len(p.shut()) == 0
	s.Mine = m.canDo(ctx, l, p, s)
	return s, nil
}

// recordGates judges all gates that the records say something of.
func (m *Mover) recordGates(ctx context.Context, l *landscape.Landscape, p *Promotion, look *ledger.Look, unfinished bool) error {
	add := p.addGate
	m.firstGates(p)
	again, _, err := m.comesAgain(ctx, p.To, p.Moving)
	if err != nil {
		return err
	}
	p.Deployment = &Deployment{Again: again}
	err = m.againGate(ctx, p, add)
	p.Deployment = nil
	if err == nil {
		err = m.laneGate(ctx, l, p, add)
	}
	if err != nil {
		return err
	}
	if look != nil && look.Differences > 0 {
		add(GateDrift, fmt.Sprintf("%s was changed by hand when it was looked at on %s", p.To.Name,
			look.Time.Local().Format("2006-01-02 15:04")),
			"Look at it with oaken drift "+fault.Word(p.To.Name)+".")
	}
	if unfinished {
		add(GateDrift, "a deployment to "+p.To.Name+" did not end", "Promote again to go on from it, or oaken rollback "+
			fault.Word(p.To.Name)+".")
	}
	if err := m.standingGates(ctx, l, p, add); err != nil {
		return err
	}
	return m.declaredGates(ctx, l, p)
}

// canDo lists what this person can do for a move.
func (m *Mover) canDo(ctx context.Context, l *landscape.Landscape, p *Promotion, s Stand) (out []string) {
	to := fault.Word(p.To.Name)
	for _, g := range p.Gates {
		declared, ok := l.Manifest.Pipeline.Gate(g.Name)
		if !ok || g.Verdict != Shut || len(declared.By) > 0 && !l.Manifest.Team.Plays(m.Project.Person, declared.By) {
			continue
		}
		own := slices.ContainsFunc(p.Moving, func(c ledger.Commit) bool { return c.Author == m.Project.Person }) && !declared.SelfApproval
		switch {
		case declared.Needs == manifest.NeedsSignal:
			out = append(out, "oaken approve "+to+fromFlag(l, p)+" --signal "+fault.Word(g.Name))
		case declared.Needs == manifest.NeedsBooking:
			out = append(out, "oaken book "+to+laneFlag(p.Lane)+" --for 2d")
		case (declared.Approvals > 0 || len(declared.By) > 0) && !own && !m.approved(ctx, p):
			out = append(out, "oaken approve "+to+fromFlag(l, p))
		}
	}
	if shut := s.Shut(); len(shut) == 1 && shut[0] == GateAgain && m.mayControl(l, p.To, "") == nil {
		out = append(out, "oaken promote "+fault.Word(p.From.Name)+" "+to+" --again")
	}
	if s.Open && m.mayControl(l, p.To, "") == nil {
		out = append(out, "oaken promote "+fault.Word(p.From.Name)+" "+to)
	}
	return out
}

// approved reports whether this person has approved a promotion already.
func (m *Mover) approved(ctx context.Context, p *Promotion) bool {
	given, err := m.Project.Chest.Assents(ctx, p.To.Name, p.Source.ID)
	return err == nil && slices.ContainsFunc(given, func(a ledger.Assent) bool {
		return a.Person == m.Project.Person && a.Plan == "" && a.Gate == "" && a.Tree == p.approvedTree()
	})
}

// standAll fills in how each move of an overview stands that work waits for.
func (m *Mover) standAll(ctx context.Context, o *Overview) error {
	for i := range o.Moves {
		v := &o.Moves[i]
		if v.Waiting == 0 {
			continue
		}
		stage := func(name string) *StageView {
			at := slices.IndexFunc(o.Stages, func(s StageView) bool { return s.Name == name })
			if at < 0 {
				return nil
			}
			return &o.Stages[at]
		}
		from, to := stage(v.From), stage(v.To)
		if from == nil || to == nil {
			continue
		}
		var err error
		if v.Stand, err = m.stand(ctx, o.Landscape, v.Move, v.Has, to.Drift, to.Unfinished); err != nil {
			return err
		}
	}
	return nil
}
