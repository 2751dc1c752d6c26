package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/landscape"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type bookOptions struct {
	lane, from, until, lasts, note string
	end                            bool
}

func newBook(a *App) *cobra.Command {
	var o bookOptions
	cmd := &cobra.Command{
		Use:   "book [ENV]",
		Short: "Book an environment for a lane, or show who has it when",
		Long: `Book an environment for a lane, for a time. Until it ends, the work of other lanes is
not promoted there; they are told by whom and until when. Who comes later queues up:
a booking with --for begins when those before it have ended. Without a lane, the
bookings are shown; --end gives the environment back before its time. Without an
environment, the next two weeks of all environments are shown as a calendar.`,
		Example: "  oaken book rehearsal --lane Exhibit --until Friday\n  oaken book rehearsal --lane Husbandry --for 2d\n" +
			"  oaken book rehearsal\n  oaken book rehearsal --end --lane Exhibit",
		GroupID:           groupPipeline,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				if o.lane != "" || o.end || o.until != "" || o.lasts != "" {
					return usage(cmd, "Name the environment.")
				}
				return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.showCalendar(cmd.Context(), w) })
			}
			if o.lane != "" && !o.end && o.until == "" && o.lasts == "" {
				return usage(cmd, "A booking needs an end: --until Friday, or --for 2d.")
			}
			if o.lane == "" && (o.until != "" || o.lasts != "") {
				return usage(cmd, "A booking is for a lane: --lane NAME.")
			}
			switch {
			case o.end:
				return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.endBooking(cmd.Context(), w, args[0], o) })
			case o.lane != "":
				return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.book(cmd.Context(), w, args[0], o) })
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				slots, err := a.mover(w).Bookings(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				a.showBookings(args[0], slots, nil)
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.lane, "lane", "", "book it for the lane `NAME`")
	f.StringVar(&o.from, "from", "", "let it begin at the `TIME`; now without it")
	f.StringVar(&o.until, "until", "", "let it end at the `TIME`: a day, Friday, \"2026-12-01 18:00\"")
	f.StringVar(&o.lasts, "for", "", "let it last for a `TIME` such as 8h or 2d")
	f.StringVarP(&o.note, "message", "m", "", "what it is for, `TEXT`")
	f.BoolVar(&o.end, "end", false, "give it back before its time")
	cmd.MarkFlagsMutuallyExclusive("until", "for")
	cmd.MarkFlagsMutuallyExclusive("end", "until")
	cmd.MarkFlagsMutuallyExclusive("end", "for")
	_ = cmd.RegisterFlagCompletionFunc("lane", a.completeLanes)
	for _, name := range []string{"from", "until", "for", "message"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	return cmd
}

// completeLanes offers lanes.
func (a *App) completeLanes(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	a.quietly(cmd, func(w *workspace.Workspace) {
		for _, l := range w.Manifest.Pipeline.Lanes {
			out = append(out, l.Name)
		}
	})
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) book(ctx context.Context, w *workspace.Workspace, env string, o bookOptions) error {
	b := pipeline.BookOptions{Environment: env, Lane: o.lane, Note: o.note}
	var err error
	if o.from != "" {
		if b.From, err = service.Time(o.from, a.Now()); err != nil {
			return err
		}
	}
	if o.until != "" {
		if b.Until, err = service.Time(o.until, a.Now()); err != nil {
			return err
		}
		if len(o.until) == len(time.DateOnly) { // a day counts to its end
			b.Until = b.Until.Add(24*time.Hour - time.Minute)
		}
	}
	if o.lasts != "" {
		if b.For, err = manifest.Duration(o.lasts); err != nil {
			return usageText("Write a length such as 8h or 3d.", err)
		}
	}
	m := a.mover(w)
	slot, err := m.Book(ctx, b)
	if err != nil {
		return err
	}
	slots, err := m.Bookings(ctx, env)
	if err != nil {
		return err
	}
	if !a.JSON {
		if slot.Waits() {
			a.Say("%s is booked for %s from %s until %s, behind others.", a.Paint(screen.Strong, env), o.lane, screen.Clock(slot.From),
				screen.Clock(slot.Until))
		} else {
			a.Say("%s is booked for %s until %s.", a.Paint(screen.Strong, env), o.lane, screen.Clock(slot.Until))
		}
	}
	a.showBookings(env, slots, &slot)
	return nil
}

func (a *App) endBooking(ctx context.Context, w *workspace.Workspace, env string, o bookOptions) error {
	m := a.mover(w)
	s, err := m.EndBooking(ctx, env, o.lane)
	if err != nil {
		return err
	}
	slots, err := m.Bookings(ctx, env)
	if err != nil {
		return err
	}
	if !a.JSON {
		a.Say("%s is given back by %s.", a.Paint(screen.Strong, env), s.Lane)
	}
	a.showBookings(env, slots, nil)
	return nil
}

func (a *App) showBookings(env string, slots []landscape.Slot, made *landscape.Slot) {
	if a.JSON {
		out := result.Bookings{Environment: env, Bookings: []result.Booking{}}
		for _, s := range slots {
			out.Bookings = append(out.Bookings, result.BookingOf(s, a.Now()))
		}
		if made != nil {
			booked := result.BookingOf(*made, a.Now())
			out.Booked = &booked
		}
		a.print(out)
		return
	}
	if len(slots) == 0 {
		a.Say("%s is not booked.", env)
		return
	}
	var rows [][]screen.Cell
	for _, s := range slots {
		word := screen.Faint.Cell("waits")
		if s.Holds(a.Now()) {
			word = screen.Good.Cell("has it")
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Lane), word,
			screen.Plain.Cell(screen.Clock(s.From) + " to " + screen.Clock(s.Until)), screen.Plain.Cell(s.Person),
			screen.Faint.Cell(screen.Gist(s.Note, 50))})
	}
	a.Table(a.Out, "  ", rows)
}
