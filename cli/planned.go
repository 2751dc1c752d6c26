package cli

import (
	"context"
	"path/filepath"
	"strconv"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// stateOf names a commit for people.
func stateOf(c ledger.Commit) string { return workspace.Label(c) }

// planPromotion plans a promotion for a time.
func (a *App) planPromotion(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover, from, to string, opts pipeline.PromoteOptions,
	o promoteOptions) error {
	due, err := service.Time(o.at, a.Now())
	if err != nil {
		return err
	}
	p, err := m.PlanAt(ctx, from, to, opts, due)
	if err != nil {
		return err
	}
	c, err := w.Chest.Commit(ctx, p.Commit)
	if err != nil {
		return err
	}
	command := "oaken --in " + quoteWord(filepath.Clean(w.Root)) + " --yes promote --due"
	if a.JSON {
		a.print(result.Scheduled{Number: p.ID, Time: result.Time(due), Command: command})
		return nil
	}
	a.Say("%d is planned: %s → %s on %s, just what is there now, %s.", p.ID, from, a.Paint(screen.Strong, to),
		screen.Clock(due), stateOf(c))
	a.Note("What is due is carried out by: %s", command)
	a.Note("A line for cron that looks every five minutes:  */5 * * * * %s", command)
	return nil
}

// listPlanned lists what is planned.
func (a *App) listPlanned(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover) error {
	list, err := m.Planned(ctx, true)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.printPlanned(ctx, w, list)
	}
	var rows [][]screen.Cell
	for _, p := range list {
		row, err := a.plannedRow(ctx, w, p)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		a.Say("Nothing is planned. oaken promote FROM TO --at TIME plans a promotion.")
	}
	a.Table(a.Out, "", rows)
	return nil
}

func (a *App) printPlanned(ctx context.Context, w *workspace.Workspace, list []ledger.Planned) error {
	out := result.PlannedMoves{Planned: []result.PlannedMove{}}
	for _, p := range list {
		c, err := w.Chest.Commit(ctx, p.Commit)
		if err != nil {
			return err
		}
		out.Planned = append(out.Planned, result.PlannedMoveOf(p, c))
	}
	a.print(out)
	return nil
}

// plannedRow tells of one planned promotion.
func (a *App) plannedRow(ctx context.Context, w *workspace.Workspace, p ledger.Planned) ([]screen.Cell, error) {
	c, err := w.Chest.Commit(ctx, p.Commit)
	word, tone := "to come", screen.Plain
	switch {
	case p.Outcome == ledger.PlannedDone:
		word, tone = p.Outcome, screen.Good
	case p.Outcome == ledger.PlannedOff:
		word, tone = p.Outcome+" by "+p.By, screen.Faint
	case p.Outcome != "":
		word, tone = p.Outcome, screen.Bad
	case !p.Due.After(a.Now()):
		word, tone = "due", screen.Warm
	}
	return []screen.Cell{screen.Strong.Cell(strconv.FormatInt(p.ID, 10)), screen.Plain.Cell(screen.Clock(p.Due)),
		screen.Strong.Cell(p.Origin + " → " + p.Target), screen.Plain.Cell(stateOf(c)), screen.Plain.Cell(p.Item),
		screen.Plain.Cell(p.Person),
		tone.Cell(word), screen.Plain.Cell(screen.Gist(p.Said, 90))}, err
}

// callOff ends a planned promotion.
func (a *App) callOff(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover, number int64) error {
	p, err := m.CallOff(ctx, number)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.printPlanned(ctx, w, []ledger.Planned{*p})
	}
	a.Say("%d is called off: %s → %s on %s.", p.ID, p.Origin, p.Target, screen.Clock(p.Due))
	return nil
}

// carryOutDue carries out what is due. One that did not come about ends the call with its status, after all were tried.
func (a *App) carryOutDue(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover) error {
	list, err := m.CarryOutDue(ctx, func(p ledger.Planned) {
		if a.JSON {
			return
		}
		a.Note("%d: %s → %s, planned by %s for %s …", p.ID, p.Origin, p.Target, p.Person, screen.Clock(p.Due))
	})
	if err != nil {
		return err
	}
	var failed *ledger.Planned
	for i := range list {
		if list[i].Outcome != ledger.PlannedDone && failed == nil {
			failed = &list[i]
		}
	}
	switch {
	case a.JSON:
		if err := a.printPlanned(ctx, w, list); err != nil {
			return err
		}
	case len(list) == 0:
		a.Say("Nothing is due.")
	default:
		var rows [][]screen.Cell
		for _, p := range list {
			row, err := a.plannedRow(ctx, w, p)
			if err != nil {
				return err
			}
			rows = append(rows, row)
		}
		a.Table(a.Out, "", rows)
	}
	if failed == nil {
		return nil
	}
	code := fault.Refused
	if failed.Outcome == ledger.PlannedFailed {
		code = fault.Failed
	}
	err = fault.New(code, "Plan it anew when that is mended: oaken promote "+fault.Word(failed.Origin)+" "+fault.Word(failed.Target)+
		" --at TIME.", "The planned promotion %d did not come about: %s", failed.ID, failed.Said)
	if a.JSON {
		return &alreadyTold{err}
	}
	return err
}
