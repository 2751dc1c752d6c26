package pipeline

import (
	"context"
	"slices"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Bookings gives the bookings of an environment that have not ended, in order.
func (m *Mover) Bookings(ctx context.Context, name string) ([]landscape.Slot, error) {
	if _, err := m.declaration(ctx, name); err != nil {
		return nil, err
	}
	all, err := m.Project.Chest.Bookings(ctx)
	return landscape.Coming(all, name, m.Now()), err
}

// Calendar gives the bookings of every environment of the pipeline that have not ended, those of one in order.
func (m *Mover) Calendar(ctx context.Context) (environments []string, slots map[string][]landscape.Slot, err error) {
	all, err := m.Project.Chest.Bookings(ctx)
	slots = map[string][]landscape.Slot{}
	l := m.rules(ctx)
	column := l.Column()
	staged := l.Staged()
	slices.SortStableFunc(staged, func(a, b manifest.Environment) int { return column[a.Name] - column[b.Name] })
	for _, e := range staged {
		environments = append(environments, e.Name)
		slots[e.Name] = landscape.Coming(all, e.Name, m.Now())
	}
	return environments, slots, err
}

// BookOptions are the choices of a booking.
type BookOptions struct {
	Environment, Lane string
	// From is when it begins; zero for at once.
	From time.Time
	// Until is when it ends; zero when it lasts for For from when it begins.
	Until time.Time
	For   time.Duration
	Note  string
}

// Book books an environment for a lane. Where others have booked before, it queues up
// behind them.
func (m *Mover) Book(ctx context.Context, o BookOptions) (landscape.Slot, error) {
	var slot landscape.Slot
	l := m.rules(ctx)
	env, err := m.environment(l, o.Environment)
	if err != nil {
		return slot, err
	}
	lane, ok := l.Manifest.Pipeline.Lane(o.Lane)
	if !ok {
		return slot, fault.New(fault.Usage, "Lanes are declared in oaken.toml, under [[pipeline.lane]].", "There is no lane %s.", o.Lane)
	}
	if len(lane.Developers) > 0 && !l.Manifest.Team.Plays(m.Project.Person, append(slices.Clone(lane.Developers), env.Deciders()...)) {
		return slot, fault.New(fault.Refused, "Ask one of them: "+listAnd(lane.Developers)+".", "%s does not work in the lane %s.",
			m.Project.Person, lane.Name)
	}
	if !l.OnPath(lane.Name, env.Name) {
		return slot, fault.New(fault.Refused, "oaken pipeline show draws the moves.", "No move brings work of the lane %s to %s.",
			lane.Name,
			env.Name)
	}
	if o.From.IsZero() {
		o.From = m.Now()
	}
	if o.For <= 0 && !o.Until.After(o.From) {
		return slot, fault.New(fault.Usage, "Say how long: --until Friday, or --for 2d.", "The booking would end before it begins.")
	}
	w := m.Project
	b := ledger.Booking{Environment: o.Environment, Lane: o.Lane, Person: w.Person, Workspace: w.Name, Asked: m.Now(), Begins: o.From,
		Ends: o.Until, Lasts: o.For, Note: o.Note}
	b.ID, err = w.Chest.Book(ctx, b, func(others []ledger.Booking) error {
		for _, s := range landscape.Schedule(append(slices.Clone(others), b), o.Environment) {
			if s.ID == 0 {
				slot = s
				return nil
			}
		}
		return fault.New(fault.Refused,
			"See them with oaken book "+fault.Word(o.Environment)+", and queue up with --for 2d, which counts from when they have ended.",
			"%s is booked by others until then.", o.Environment)
	})
	slot.ID = b.ID
	return slot, err
}

// EndBooking ends the booking of a lane that holds an environment, or the next one that
// waits. Only people of the lane, and those who control the environment, may.
func (m *Mover) EndBooking(ctx context.Context, name, lane string) (landscape.Slot, error) {
	slots, err := m.Bookings(ctx, name)
	if err != nil {
		return landscape.Slot{}, err
	}
	l := m.rules(ctx)
	env, _ := m.environment(l, name)
	for _, s := range slots {
		if lane != "" && s.Lane != lane {
			continue
		}
		declared, _ := l.Manifest.Pipeline.Lane(s.Lane)
		if m.Project.Person != s.Person && !l.Manifest.Team.Plays(m.Project.Person,
			slices.Concat(declared.Developers, env.Deciders(), l.Manifest.Pipeline.MayEndBookings)) {
			return s, fault.New(fault.Refused, "Ask "+s.Person+", who booked it.", "The booking is one of the lane %s.", s.Lane)
		}
		// One that waits has ended before it begins, whenever that would be.
		return s, m.Project.Chest.EndBooking(ctx, s.Booking, m.Now())
	}
	return landscape.Slot{}, fault.New(fault.Usage, "oaken book "+fault.Word(name)+" shows who has it when.",
		"%s has no such booking.", name)
}
