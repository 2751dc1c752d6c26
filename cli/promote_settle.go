package cli

import (
	"context"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// settlePromotion begins to settle what is in conflict in a promotion, and on a terminal does
// it.
func (a *App) settlePromotion(ctx context.Context, m *pipeline.Mover, from, to string, o pipeline.PromoteOptions) error {
	s, err := m.BeginSettling(ctx, from, to, o)
	if err != nil {
		return err
	}
	c := promotionClash(s)
	switch {
	case a.JSON:
		a.print(result.Conflicts{Conflicts: result.ConflictsOf(s.Open)})
		return nil
	case len(s.Open) > 0 && a.Keys != nil:
		return a.pickConflicts(ctx, c)
	}
	a.showConflicts(s.Open)
	a.showChosen(s.Settled)
	if len(s.Open) == 0 {
		a.sayLeft(nil, c)
		return nil
	}
	a.Say("\nmine is what %s has, theirs what %s has. Settle each: oaken resolve ADDRESS --to %s --keep SIDE. Nothing of it goes on before.", a.Paint(screen.Strong, s.Branch), a.Paint(screen.Strong, from), to)
	return nil
}

func (a *App) abandonPromotion(ctx context.Context, w *workspace.Workspace, from, to string) error {
	if err := w.Chest.Unsettle(ctx, from, to); err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Conflicts{Conflicts: []result.Conflict{}})
		return nil
	}
	a.Say("The choices for the promotion from %s to %s are forgotten.", from, to)
	return nil
}

// showChosen lists how conflicts of a promotion were settled.
func (a *App) showChosen(list []ledger.Chosen) {
	var rows [][]screen.Cell
	for _, x := range list {
		how := "kept " + x.Keep
		if x.Keep == string(element.KeepValue) {
			how = "set to " + screen.OneLine(x.Value, valueWidth)
		}
		rows = append(rows, []screen.Cell{screen.Good.Cell("settled"), screen.Plain.Cell(x.Address), screen.Plain.Cell(how),
			screen.Plain.Cell(x.Person), screen.Faint.Cell(screen.Clock(x.Time))})
	}
	a.Table(a.Out, "  ", rows)
}
