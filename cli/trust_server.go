package cli

import (
	"context"

	"oakenchest/cli/screen"
	"oakenchest/core/chest"
	"oakenchest/core/chest/wire"
	"oakenchest/core/service/result"
)

// trustServer shows what the project wants to run and to reach at the server, and takes an administrator's word for it.
func (a *App) trustServer(ctx context.Context, check, forget bool) error {
	calls, project, err := a.ofProject()
	if err != nil {
		return err
	}
	defer calls.Close()
	put := func(call wire.AgreeCall, n *int) error {
		return chest.Explain(calls.AskOnce(ctx, project+"/"+wire.CallAgreed+"/put", call, n))
	}
	if forget {
		n := 0
		if err := put(wire.AgreeCall{Back: true}, &n); err != nil {
			return err
		}
		a.showForgotten(n)
		return nil
	}
	var list wire.Agreed
	look := func() error { return chest.Explain(calls.Ask(ctx, project+"/"+wire.CallAgreed, struct{}{}, &list)) }
	if err := look(); err != nil {
		return err
	}
	lacking := 0
	for _, w := range list.Wishes {
		if w.By == "" {
			lacking++
		}
	}
	if !a.JSON {
		a.showServerWishes(list.Wishes)
	}
	given := a.yes || a.trust != "" && a.trust == list.Digest
	if lacking > 0 && !check && (given || !a.JSON && a.Keys != nil && a.Ask("Agree to this for the server?")) {
		n := 0
		if err := put(wire.AgreeCall{Digest: list.Digest}, &n); err != nil {
			return err
		}
		lacking = 0
		if err := look(); err != nil { // who agreed is in it now
			return err
		}
	}
	if a.JSON {
		out := result.Trust{Wishes: []result.Wish{}, Digest: list.Digest}
		for _, w := range list.Wishes {
			out.Wishes = append(out.Wishes, result.Wish{Sort: w.Sort, Name: w.Name, Text: w.Text, Agreed: w.By != "", By: w.By})
		}
		a.print(out)
	}
	switch {
	case lacking > 0 && check:
		return &foundDifference{}
	case len(list.Wishes) == 0:
		a.Say("The project wants to run nothing at the server, and to reach nothing from there.")
	case lacking == 0:
		a.Say("All of this is agreed to.")
	default:
		a.Say("Not agreed to: until then the server does not run it, and does not reach it.")
		a.Say("  An administrator agrees with oaken trust --server --yes.")
	}
	return nil
}

func (a *App) showServerWishes(list []wire.Wish) {
	var rows [][]screen.Cell
	for _, w := range list {
		mark, who := screen.Warm.Cell("new"), ""
		if w.By != "" {
			mark, who = screen.Good.Cell("agreed"), w.By+", "+screen.Clock(w.Time)
		}
		does := "run"
		if w.Sort == "target" || w.Sort == "scratch" {
			does = "reach"
		}
		rows = append(rows, []screen.Cell{mark, screen.Plain.Cell(does), screen.Strong.Cell(w.Text),
			screen.Faint.Cell(w.Sort + " " + w.Name), screen.Faint.Cell(who)})
	}
	a.Table(a.Out, "", rows)
}
