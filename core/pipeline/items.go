package pipeline

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
)

// ItemState is the word for how an item stands in an environment.
type ItemState string

// How an item stands in an environment.
const (
	ItemThere     ItemState = "there"      // all of its work is
	ItemPartly    ItemState = "partly"     // some of its work is
	ItemWaits     ItemState = "waits"      // it is in an environment from which a move leads there
	ItemOwed      ItemState = "owed"       // a later environment has it
	ItemTakenBack ItemState = "taken back" // it was there
	ItemAbsent    ItemState = ""           // it has not come so far
)

// ItemCell is how an item stands in one environment.
type ItemCell struct {
	State ItemState
	// Since is when the last of its work came that is there; zero for none.
	Since time.Time
	// Has is how many of its pieces of work are there.
	Has int
}

// ItemView is a work item with how it stands everywhere.
type ItemView struct {
	Key string
	// Work is the oldest first.
	Work []ledger.Commit
	// Cells are in the order of the environments.
	Cells []ItemCell
}

// Title is the first line of what its newest work says.
func (v *ItemView) Title() string {
	line, _, _ := strings.Cut(v.Work[len(v.Work)-1].Message, "\n")
	return line
}

// ItemsView is a table of work items and environments.
type ItemsView struct {
	Project      string
	Environments []manifest.Environment
	// Items begin with that which was worked on last.
	Items []ItemView
	At    time.Time
}

// Items tells how work items stand in each environment of the pipeline, by the records alone; none means all items.
func (m *Mover) Items(ctx context.Context, keys ...string) (*ItemsView, error) {
	l := m.rules(ctx)
	out := &ItemsView{Project: l.Manifest.Project, Environments: l.Staged(), At: m.Now()}
	column := l.Column()
	slices.SortStableFunc(out.Environments, func(a, b manifest.Environment) int { return column[a.Name] - column[b.Name] })
	err := owed.View(ctx, m.Project.Chest, l, func(b *owed.Book) error {
		works, err := worksOf(b, out.Environments, keys)
		if err != nil {
			return err
		}
		for _, list := range works {
			v := ItemView{Key: list[0].Item, Work: list}
			for _, e := range out.Environments {
				cell, err := itemCell(b, e, list)
				if err != nil {
					return err
				}
				v.Cells = append(v.Cells, cell)
			}
			out.Items = append(out.Items, v)
		}
		return nil
	})
	slices.SortStableFunc(out.Items, func(a, b ItemView) int {
		return b.Work[len(b.Work)-1].Time.Compare(a.Work[len(a.Work)-1].Time)
	})
	return out, err
}

// worksOf lists the work that environments and their branches have, by item, each piece once.
func worksOf(b *owed.Book, environments []manifest.Environment, keys []string) ([][]ledger.Commit, error) {
	var ends []ledger.Commit
	for _, e := range environments {
		if c, ok := b.Offers(e); ok {
			ends = append(ends, c)
		}
		if tip := b.Tip(b.Landscape.Manifest.BranchOf(e)); tip.Depth > 0 {
			ends = append(ends, tip)
		}
	}
	seen, visited := map[ledger.ID]bool{}, map[ledger.ID]bool{}
	byItem := map[string][]ledger.Commit{}
	var order []string
	for _, end := range ends {
		if visited[end.ID] {
			continue
		}
		visited[end.ID] = true
		works, err := b.Arrived.Missing(ledger.Commit{}, end)
		if err != nil {
			return nil, err
		}
		for _, c := range works {
			root := b.Arrived.Root(c.ID)
			if c.Item == "" || seen[root] || len(keys) > 0 && !slices.Contains(keys, c.Item) {
				continue
			}
			seen[root] = true
			if len(byItem[c.Item]) == 0 {
				order = append(order, c.Item)
			}
			byItem[c.Item] = append(byItem[c.Item], c)
		}
	}
	out := make([][]ledger.Commit, len(order))
	for i, key := range order {
		out[i] = byItem[key]
		slices.SortFunc(out[i], ledger.Older)
	}
	return out, nil
}

// itemCell tells how an item's work stands in an environment.
func itemCell(b *owed.Book, e manifest.Environment, works []ledger.Commit) (cell ItemCell, err error) {
	standing, ok := b.Offers(e)
	back, waits, owes := false, false, false
	for _, c := range works {
		if ok && b.Arrived.Has(standing, c) {
			since, err := b.Since(e.Name, c)
			if err != nil {
				return cell, err
			}
			if cell.Has++; since.After(cell.Since) {
				cell.Since = since
			}
			continue
		}
		back = back || b.TakenBack(e.Name, c)
		for _, move := range b.Landscape.Into(e.Name) {
			from, err := b.Landscape.Manifest.Environment(move.From)
			has, here := b.Offers(from)
			waits = waits || err == nil && here && b.Arrived.Has(has, c)
		}
		for _, later := range b.Landscape.Later(e.Name) {
			has, here := b.Standing[later.Name]
			owes = owes || here && b.Arrived.Has(has, c)
		}
	}
	switch {
	case cell.Has == len(works):
		cell.State = ItemThere
	case back:
		cell.State = ItemTakenBack
	case owes:
		cell.State = ItemOwed
	case cell.Has > 0:
		cell.State = ItemPartly
	case waits:
		cell.State = ItemWaits
	}
	return cell, nil
}
