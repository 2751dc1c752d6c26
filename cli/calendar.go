package cli

import (
	"context"
	"time"

	"github.com/mattn/go-runewidth"

	"oakenchest/cli/screen"
	"oakenchest/core/landscape"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// daysShown is how many days a calendar has.
const daysShown = 14

// showCalendar shows who has which environment on the next days.
func (a *App) showCalendar(ctx context.Context, w *workspace.Workspace) error {
	names, slots, err := a.mover(w).Calendar(ctx)
	if err != nil {
		return err
	}
	now := a.Now().Local()
	if a.JSON {
		out := result.Bookings{Bookings: []result.Booking{}}
		for _, name := range names {
			for _, s := range slots[name] {
				out.Bookings = append(out.Bookings, result.BookingOf(s, now))
			}
		}
		a.print(out)
		return nil
	}
	if len(names) == 0 {
		a.Say("There is no pipeline yet, so nothing can be booked.")
		return nil
	}
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	months, days := []screen.Cell{{}}, []screen.Cell{screen.Faint.Cell("")}
	for d := range daysShown {
		day := today.AddDate(0, 0, d)
		month := ""
		if d == 0 || day.Day() == 1 {
			month = day.Format("Jan")
		}
		months, days = append(months, screen.Faint.Cell(month)), append(days, screen.Faint.Cell(day.Format("Mon")[:2]+day.Format("_2")))
	}
	rows := [][]screen.Cell{months, days}
	for _, name := range names {
		row := []screen.Cell{screen.Strong.Cell(name)}
		for d := range daysShown {
			row = append(row, dayCell(slots[name], today.AddDate(0, 0, d), today.AddDate(0, 0, d+1)))
		}
		rows = append(rows, row)
	}
	a.Table(a.Out, "", rows)
	for _, name := range names {
		for _, s := range slots[name] {
			a.Say("%s: %s, from %s until %s, by %s", name, s.Lane, screen.Clock(s.From), screen.Clock(s.Until), s.Person)
		}
	}
	return nil
}

// dayCell tells who has an environment on a day: the beginning of the lane's name; two lanes share a day as a sign.
func dayCell(slots []landscape.Slot, from, until time.Time) screen.Cell {
	lane := ""
	for _, s := range slots {
		if !s.From.Before(until) || !s.Until.After(from) {
			continue
		}
		if lane != "" && lane != s.Lane {
			return screen.Warm.Cell("+")
		}
		lane = s.Lane
	}
	if lane == "" {
		return screen.Faint.Cell("·")
	}
	return screen.Good.Cell(runewidth.Truncate(lane, 4, ""))
}
