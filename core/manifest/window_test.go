package manifest

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

// openBySteps tells by going through a window minute by minute, from each day on which it opens.
func openBySteps(w Window, at time.Time) bool {
	at = at.Truncate(time.Minute)
	from, until := w.bounds()
	length := until - from
	if length <= 0 {
		length += 24 * 60
	}
	for back := range 2 {
		day := time.Date(at.Year(), at.Month(), at.Day()-back, 0, 0, 0, 0, at.Location())
		if len(w.Days) > 0 && !strings.Contains(strings.Join(w.Days, " "), day.Weekday().String()) {
			continue
		}
		for minute := range length {
			if day.Add(time.Duration(from+minute) * time.Minute).Equal(at) {
				return true
			}
		}
	}
	return false
}

func TestWindowsOpenAsTheyAreWritten(t *testing.T) {
	days := []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}
	times := []string{"00:00", "06:30", "12:00", "20:00", "22:00", "23:59"}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 5))
		w := Window{From: times[r.IntN(len(times))], Until: times[r.IntN(len(times))]}
		if w.From == w.Until {
			continue
		}
		for _, d := range days {
			if r.IntN(3) == 0 {
				w.Days = append(w.Days, d)
			}
		}
		if err := w.check(); err != nil {
			t.Fatal(err)
		}
		start := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(7*24*60)) * time.Minute)
		for minute := 0; minute < 2*24*60; minute += 7 {
			at := start.Add(time.Duration(minute) * time.Minute)
			if got, want := w.Open(at), openBySteps(w, at); got != want {
				t.Fatalf("%+v at %s is open: %v, want %v", w, at.Format("Monday 15:04"), got, want)
			}
		}
		next := w.Next(start)
		if next.IsZero() || !next.After(start) || !w.Open(next) || w.Open(next.Add(-time.Minute)) && w.From != "00:00" &&
			w.Until != w.From &&
			!openBySteps(w, next.Add(-time.Minute)) {
			t.Errorf("%+v opens next after %s at %s", w, start.Format("Monday 15:04"), next.Format("Monday 15:04"))
		}
		for at := start.Add(time.Minute); at.Before(next); at = at.Add(time.Minute) {
			if w.Open(at) && !w.Open(at.Add(-time.Minute)) {
				t.Fatalf("%+v opens at %s, before %s", w, at.Format("Monday 15:04"), next.Format("Monday 15:04"))
			}
		}
	}
	for _, at := range times {
		w := Window{From: at, Until: at}
		if !w.Never() || !w.Next(time.Now()).IsZero() {
			t.Error("a window that ends when it begins is said to open")
		}
		for minute := range 24 * 60 {
			if now := time.Date(2026, 11, 30, 0, minute, 0, 0, time.UTC); w.Open(now) {
				t.Fatalf("%+v is open at %s", w, now.Format("15:04"))
			}
		}
	}
}

func TestWhatWindowsMasksAndChecksCantSayIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		"[[pipeline.window]]\nwhy = \"x\"":                                             "needs days",
		"[[pipeline.window]]\nfrom = \"24:00\"":                                        "can't begin at 24:00",
		"[[pipeline.window]]\nfrom = \"25:00\"":                                        "no time of the day",
		"[[pipeline.window]]\nfrom = \"20:00\"\nuntil = \"late\"":                      "no time of the day",
		"[[pipeline.window]]\ndays = [\"Someday\"]":                                    "no day such as",
		"[[pipeline.window]]\ndays = [\"Friday\"]\ntiers = [\"moon\"]":                 "is none of development",
		"[[pipeline.after]]\ncommand = [\"true\"]":                                     "has no name",
		"[[pipeline.after]]\nname = \"x\"":                                             "has no command",
		"[[pipeline.after]]\nname = \"x\"\ncommand = [\"true\"]\notherwise = \"pray\"": "which is none of doubt and rollback",
		"[[pipeline.after]]\nname = \"x\"\ncommand = [\"true\"]\nwithin = \"soon\"":    "is no time such as",
		"[[pipeline.after]]\nname = \"x\"\ncommand = [\"true\"]\ntiers = [\"moon\"]":   "which is none of development",
		"[[mask]]\ncolumn = \"name\"\nwith = \"hash\"":                                 "TABLE.COLUMN",
		"[[mask]]\ncolumn = \"keeper.\"\nwith = \"hash\"":                              "TABLE.COLUMN",
		"[[mask]]\ncolumn = \"keeper.name\"\nwith = \"rot13\"":                         "is none of null, value, hash, shuffle",
		"[[mask]]\ncolumn = \"keeper.name\"\nwith = \"hash\"\nvalue = \"x\"":           "has a value",
		"[[pipeline.gate]]\nname = \"x\"\nneeds = \"signal\"":                          "says nothing under by",
		"[[pipeline.move]]\nto = \"b\"":                                                "needs from and to",
		"[[pipeline.move]]\nfrom = 3\nto = \"b\"":                                      "a name, or a list of names",
		"[[pipeline.move]]\nfrom = [\"a\", 3]\nto = \"b\"":                             "a name, or a list of names",
		"[[pipeline.move]]\nfrom = [\"a\", \"\"]\nto = \"b\"":                          "needs from and to",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\n: %v, want %s", text, err, want)
		}
	}
}

func TestMovesFromSeveralPlacesAreSeveralMoves(t *testing.T) {
	m, err := Parse([]byte("[[pipeline.move]]\nfrom = [\"a\", \"b\"]\nto = \"c\"\ngates = [\"g\"]\n[[pipeline.move]]\nfrom = \"c\"\n" +
		"to = \"d\"\n"))
	if err != nil || len(m.Pipeline.Moves) != 3 {
		t.Fatalf("%+v, %v", m, err)
	}
	if got := fmt.Sprint(m.Pipeline.Moves); got != "[{a c [g] } {b c [g] } {c d [] }]" {
		t.Errorf("moves: %s", got)
	}
	mask := Mask{Column: "care.keeper.name"}
	if mask.Table() != "care.keeper" || mask.Name() != "name" {
		t.Errorf("a mask of %s in %s", mask.Name(), mask.Table())
	}
	e := Environment{Name: "live", Tier: Live, Controllers: []string{"Ravi"}, OnCall: []string{"Maren"}}
	if fmt.Sprint(e.Deciders()) != "[Ravi Maren]" || (Environment{OnCall: []string{"Maren"}}).Deciders() != nil {
		t.Error("who decides")
	}
	for _, c := range []struct {
		after After
		want  bool
	}{{After{}, true}, {After{Environments: []string{"live"}}, true}, {After{Tiers: []Tier{Live}}, true},
		{After{Tiers: []Tier{"test"}}, false},
		{After{Environments: []string{"test"}}, false}} {
		if c.after.For(e) != c.want {
			t.Errorf("%+v is run for live: %v", c.after, !c.want)
		}
	}
}
