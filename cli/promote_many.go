package cli

import (
	"context"
	"strings"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
)

// alreadyTold is an error that is in the output already.
type alreadyTold struct{ err error }

func (e *alreadyTold) Error() string { return e.err.Error() }

// Unwrap gives the error.
func (e *alreadyTold) Unwrap() error { return e.err }

// approveFirst approves what is about to be promoted.
func (a *App) approveFirst(ctx context.Context, m *pipeline.Mover, from, to string, o promoteOptions) error {
	got, err := m.Approve(ctx, to, pipeline.ApproveOptions{From: from, Text: o.message})
	if err == nil {
		a.Say("You approved %s for %s.", a.Paint(screen.Strong, stateOf(got.Commit)), to)
	}
	return err
}

// promoteAlong moves work on, move by move, while gates are open.
func (a *App) promoteAlong(ctx context.Context, m *pipeline.Mover, from string, opts pipeline.PromoteOptions, o promoteOptions) error {
	way, err := m.Way(ctx, from, o.asFarAs)
	if err != nil {
		return err
	}
	out := result.Promotions{Promotions: []result.Promoted{}}
	for i, move := range way {
		if i > 0 {
			a.Say("")
		}
		done, err := a.promoteOnce(ctx, m, move.From, move.To, opts, o)
		if done != nil {
			out.Promotions = append(out.Promotions, *done)
		}
		if err != nil {
			if i > 0 && !a.JSON {
				a.Say("It went as far as %s.", a.Paint(screen.Strong, move.From))
			}
			return a.stopped(out, err)
		}
	}
	return a.stopped(out, nil)
}

// promoteReady moves everything that may move, that of earlier stages first.
func (a *App) promoteReady(ctx context.Context, m *pipeline.Mover, opts pipeline.PromoteOptions, o promoteOptions) error {
	out := result.Promotions{Promotions: []result.Promoted{}}
	tried := map[[2]string]bool{}
	var first error
	for {
		ready, shut, err := m.Ready(ctx) // what moved may go on
		if err != nil {
			return err
		}
		next := -1
		for i, v := range ready {
			if next < 0 && !tried[[2]string{v.From, v.To}] {
				next = i
			}
		}
		if next < 0 {
			a.showShut(shut, len(tried))
			return a.stopped(out, first)
		}
		move := ready[next].Move
		tried[[2]string{move.From, move.To}] = true
		done, err := a.promoteOnce(ctx, m, move.From, move.To, opts, o)
		if done != nil {
			out.Promotions = append(out.Promotions, *done)
		}
		if err != nil && ctx.Err() != nil {
			return err
		}
		if err != nil { // it keeps no other from going
			if first == nil {
				first = err
			}
			a.Say("%s → %s: %v", move.From, move.To, err)
		}
		a.Say("")
	}
}

// showShut tells what waits and may not move.
func (a *App) showShut(shut []pipeline.MoveView, moved int) {
	if len(shut) == 0 && moved == 0 {
		a.Say("No work waits that may move.")
	}
	var rows [][]screen.Cell
	for _, v := range shut {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(v.From + " → " + v.To), screen.Plain.Cell(screen.Count(v.Waiting, "commit")),
			screen.Bad.Cell("shut: " + strings.Join(v.Stand.Shut(), ", "))})
	}
	if len(rows) > 0 {
		a.Say("%s", a.Paint(screen.Strong, "These wait"))
		a.Table(a.Out, "  ", rows)
	}
}

// stopped gives what several promotions came to.
func (a *App) stopped(out result.Promotions, err error) error {
	if !a.JSON {
		return err
	}
	if err != nil {
		failure := result.ErrorOf(asFault(err)).Error
		out.Error = &failure
		err = &alreadyTold{err}
	}
	a.print(out)
	return err
}

// approveOne lets a person say which move is meant where several lead to an environment; empty where nobody can be asked.
func (a *App) approveOne(ctx context.Context, m *pipeline.Mover, to string) (string, error) {
	ways, err := m.Ways(ctx, to)
	if err != nil || len(ways) < 2 || a.Keys == nil || a.JSON {
		return "", err
	}
	c := &screen.Choice{Names: ways, Heading: func(int) string { return a.Paint(screen.Strong, "Which move to "+to+" is it?") + "\n" },
		Line: func(i, _ int, _ bool) string { return ways[i] + " → " + to }, Detail: func(int, int) string { return "" },
		Press: func(string, int) bool { return false }, Keys: "↑ ↓ move"}
	if err := c.Run(&a.Screen); err != nil || !c.Done || c.At() < 0 {
		return "", fault.New(fault.Usage, "Name it: oaken approve "+fault.Word(to)+" --from ENV.", "No move was chosen.")
	}
	return ways[c.At()], nil
}
