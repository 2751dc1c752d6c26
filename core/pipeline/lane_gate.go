package pipeline

import (
	"context"
	"fmt"
	"slices"

	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
)

// laneGate is shut when a promotion carries work of another lane past gates that this would
// have to pass on its own way: work that a lane took in from another, or that somebody merged
// into the branch of the target.
func (m *Mover) laneGate(ctx context.Context, l *landscape.Landscape, p *Promotion, add func(name, said, do string)) error {
	if l.Free() || len(p.Moving) == 0 {
		return nil
	}
	var carried []ledger.Commit
	var past, lanes []string
	err := owed.View(ctx, m.Project.Chest, l, func(b *owed.Book) error {
		r := b.Arrived
		for _, c := range p.Moving {
			lane, err := b.LaneOfWork(c)
			if err != nil {
				return err
			}
			here := r.Has(p.Source, c)
			if lane == "" || lane == p.From.Lane || here && p.From.Lane == "" {
				continue // what a shared environment holds has come there by its own way
			}
			if slices.ContainsFunc(l.Later(p.To.Name), func(e manifest.Environment) bool { return r.Has(b.Standing[e.Name], c) }) {
				continue // it comes back from where it has been
			}
			var asked []string
			if here {
				asked = l.Gates(p.Move)
			}
			gates, passes := l.Passes(lane, p.To.Name, asked, func(name string) bool { return r.Has(b.Standing[name], c) })
			if passes {
				continue
			}
			carried = append(carried, c)
			for _, g := range gates {
				if !slices.Contains(past, g) {
					past = append(past, g)
				}
			}
			if !slices.Contains(lanes, lane) {
				lanes = append(lanes, lane)
			}
		}
		return nil
	})
	if err != nil || len(carried) == 0 {
		return err
	}
	add(GateLane, fmt.Sprintf("it would carry work of %s past %s: %s", listAnd(lanes), gatesNamed(past), labels(carried, 3)),
		"Let "+lanes[0]+" bring it by its own way; oaken pipeline show draws that.")
	return nil
}

func gatesNamed(names []string) string {
	if len(names) == 1 {
		return "its gate " + names[0]
	}
	return "its gates " + listAnd(names)
}
