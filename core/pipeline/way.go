package pipeline

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// Way gives the moves by which work goes from one environment as far as another, the first one first.
func (m *Mover) Way(ctx context.Context, from, to string) ([]manifest.Move, error) {
	for _, name := range []string{from, to} {
		if _, err := m.declaration(ctx, name); err != nil {
			return nil, err
		}
	}
	l := m.rules(ctx)
	var ways [][]manifest.Move
	var walk func(at string, before []manifest.Move)
	walk = func(at string, before []manifest.Move) {
		if at == to {
			ways = append(ways, slices.Clone(before))
			return
		}
		for _, move := range l.From(at) {
			if slices.ContainsFunc(before, func(b manifest.Move) bool { return b.From == move.To || b.To == move.To }) {
				continue
			}
			walk(move.To, append(before[:len(before):len(before)], move))
		}
	}
	walk(from, nil)
	switch len(ways) {
	case 0:
		return nil, fault.New(fault.Refused, "oaken pipeline show draws the moves.", "No moves lead from %s to %s.", from, to)
	case 1:
		return ways[0], nil
	}
	var told []string
	for _, way := range ways {
		names := []string{from}
		for _, move := range way {
			names = append(names, move.To)
		}
		told = append(told, strings.Join(names, " → "))
	}
	return nil, fault.New(fault.Usage, "Go move by move: oaken promote FROM TO.", "Several ways lead from %s to %s: %s.", from, to,
		strings.Join(told, "; "))
}

// Ready lists the moves for which work waits and no gate is shut, as far as the records say: those into earlier stages
// first, so that the work of one promotion can go on with the next.
func (m *Mover) Ready(ctx context.Context) (ready, shut []MoveView, err error) {
	o, err := m.Overview(ctx)
	if err != nil {
		return nil, nil, err
	}
	column := o.Landscape.Column()
	moves := slices.Clone(o.Moves)
	slices.SortStableFunc(moves, func(a, b MoveView) int { return column[a.To] - column[b.To] })
	for _, v := range moves {
		switch {
		case v.Waiting == 0:
		case v.Stand.Open:
			ready = append(ready, v)
		default:
			shut = append(shut, v)
		}
	}
	return ready, shut, nil
}
