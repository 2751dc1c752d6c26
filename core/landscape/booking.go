package landscape

import (
	"slices"
	"time"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Slot is a booking with the time that it has got: who asked later waits until those
// before have ended.
type Slot struct {
	ledger.Booking
	From, Until time.Time
}

// Holds reports whether the slot has begun and not ended.
func (s Slot) Holds(now time.Time) bool { return !now.Before(s.From) && now.Before(s.Until) }

// Waits reports whether somebody else's booking keeps the slot from beginning when it
// was asked for.
func (s Slot) Waits() bool { return s.From.After(s.Begins) }

// Schedule gives the times of all bookings of an environment, in the order in which they
// begin. Bookings are served in the order in which they were asked for: one that meets an
// earlier one begins when that ends, and is left out when its own end has come by then.
func Schedule(all []ledger.Booking, environment string) []Slot {
	var out []Slot
	for _, b := range all {
		if b.Environment != environment {
			continue
		}
		if s := place(out, b); s.Until.After(s.From) {
			out = append(out, s)
			slices.SortStableFunc(out, func(a, b Slot) int { return a.From.Compare(b.From) })
		}
	}
	return out
}

// place finds the first time for a booking beside those that have theirs, which are in
// order of time.
func place(taken []Slot, b ledger.Booking) Slot {
	s := Slot{Booking: b, From: b.Begins}
	until := func() time.Time {
		end := b.Ends
		if b.Lasts > 0 {
			end = s.From.Add(b.Lasts)
		}
		if !b.Ended.IsZero() && b.Ended.Before(end) {
			end = b.Ended
		}
		return end
	}
	s.Until = until()
	for _, t := range taken {
		if t.Lane != b.Lane && s.From.Before(t.Until) && t.From.Before(s.Until) {
			s.From = t.Until
			s.Until = until()
		}
	}
	return s
}

// Held gives the slot that holds an environment at a time; ok is false when it is free.
func Held(all []ledger.Booking, environment string, now time.Time) (slot Slot, ok bool) {
	for _, s := range Schedule(all, environment) {
		if s.Holds(now) {
			return s, true
		}
	}
	return slot, false
}

// Coming lists the slots of an environment that have not ended, in order.
func Coming(all []ledger.Booking, environment string, now time.Time) []Slot {
	return slices.DeleteFunc(Schedule(all, environment), func(s Slot) bool { return !now.Before(s.Until) })
}

// Frozen gives the freeze that holds for an environment at a time; ok is false when none
// does. The time's zone counts.
func Frozen(m *manifest.Manifest, e manifest.Environment, at time.Time) (f manifest.Freeze, ok bool) {
	for _, f := range m.Pipeline.Freezes {
		if f.Holds(e, at) {
			return f, true
		}
	}
	return f, false
}

// Windows tells whether an environment takes work at a time, by the windows that are declared for it; when one opens next,
// the zero time for never; and whether there are any.
func Windows(m *manifest.Manifest, e manifest.Environment, at time.Time) (open bool, next time.Time, any bool) {
	for _, w := range m.Pipeline.Windows {
		if !w.For(e) {
			continue
		}
		any = true
		open = open || w.Open(at)
		if n := w.Next(at); !n.IsZero() && (next.IsZero() || n.Before(next)) {
			next = n
		}
	}
	return open, next, any
}
