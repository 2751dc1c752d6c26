package manifest

import (
	"errors"
	"fmt"
	"slices"
	"time"
)

// Window is a time of each week in which work may move into certain environments, and at no other time.
type Window struct {
	// Environments and Tiers choose them; neither means all.
	Environments []string `toml:"environments"`
	Tiers        []Tier   `toml:"tiers"`
	// Days are those on which it opens; none means every day.
	Days []string `toml:"days"`
	// From and Until are times of the day, 20:00 to 22:00. One that ends before it begins goes on into the next day.
	From  string `toml:"from"`
	Until string `toml:"until"`
	Why   string `toml:"why"`
}

// For reports whether the window is one of an environment.
func (w Window) For(e Environment) bool { return chosen(w.Environments, w.Tiers, e) }

// chosen reports whether an environment is one of those that are named, or of those tiers; neither means all.
func chosen(names []string, tiers []Tier, e Environment) bool {
	return len(names)+len(tiers) == 0 || slices.Contains(names, e.Name) || e.Tier != "" && slices.Contains(tiers, e.Tier)
}

// dayTime reads a time of the day, in minutes.
func dayTime(text string) (int, error) {
	if text == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of the day such as 20:00", text)
	}
	return 60*t.Hour() + t.Minute(), nil
}

// bounds are its times of the day, in minutes.
func (w Window) bounds() (from, until int) {
	from, _ = dayTime(w.From) // checked when the manifest was read
	until = 24 * 60
	if w.Until != "" {
		until, _ = dayTime(w.Until)
	}
	return from, until
}

// opens reports whether it opens on a day.
func (w Window) opens(day time.Weekday) bool {
	return len(w.Days) == 0 || slices.ContainsFunc(w.Days, func(d string) bool {
		named, err := weekday(d)
		return err == nil && named == day
	})
}

// Open reports whether it is open at a time, in that time's zone.
func (w Window) Open(at time.Time) bool {
	from, until := w.bounds()
	now := 60*at.Hour() + at.Minute()
	switch {
	case from == until:
		return false
	case from < until:
		return w.opens(at.Weekday()) && from <= now && now < until
	}
	return w.opens(at.Weekday()) && now >= from || w.opens((at.Weekday()+6)%7) && now < until
}

// Next gives when it opens next after a time; zero for never.
func (w Window) Next(after time.Time) time.Time {
	from, until := w.bounds()
	if from == until {
		return time.Time{}
	}
	for day := range 8 {
		at := time.Date(after.Year(), after.Month(), after.Day()+day, from/60, from%60, 0, 0, after.Location())
		if w.opens(at.Weekday()) && at.After(after) {
			return at
		}
	}
	return time.Time{}
}

// Never reports whether it never opens: it ends when it begins.
func (w Window) Never() bool {
	from, until := w.bounds()
	return from == until
}

func (w Window) check() error {
	if w.From == "" && w.Until == "" && len(w.Days) == 0 {
		return errors.New("a window needs days, or times from and until")
	}
	for _, text := range []string{w.From, w.Until} {
		if text == "" {
			continue
		}
		if _, err := dayTime(text); err != nil {
			return fmt.Errorf("a window can't be read: %w", err)
		}
	}
	if w.From == "24:00" {
		return errors.New("a window can't begin at 24:00: write 00:00 and the day after")
	}
	for _, d := range w.Days {
		if _, err := weekday(d); err != nil {
			return fmt.Errorf("a window can't be read: %w", err)
		}
	}
	for _, t := range w.Tiers {
		if t.Rank() < 0 {
			return fmt.Errorf("a window names the tier %q, which is none of %s", t, tierNames())
		}
	}
	return nil
}
