package manifest

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Tier says what an environment is for; the tiers stand in the order in which work goes
// through them.
type Tier string

// Tiers lists the tiers, the first one that work reaches first.
var Tiers = []Tier{"development", "integration", "test", "acceptance", "rehearsal", "live"}

// The tiers that rules speak of.
const (
	Development Tier = "development"
	Integration Tier = "integration"
	Live        Tier = "live"
)

// Rank gives the tier's place in the order, or -1 for none.
func (t Tier) Rank() int { return slices.Index(Tiers, t) }

// Site is one target of an environment, and the folder of the project that it holds.
type Site struct {
	Target string `toml:"target"`
	// Into is the folder of the project that holds what the target does.
	Into string `toml:"into"`
	// Scratch is where declared files are tried, when not beside the target.
	Scratch string `toml:"scratch"`
	// LockWait bounds the wait for a lock in a deployment: "10s".
	LockWait string `toml:"lock-wait"`
	// Online asks for deployments that keep others out for no longer than they must.
	Online bool `toml:"online"`
}

// Wait gives the bound on the wait for a lock.
func (s Site) Wait() time.Duration {
	if d, err := time.ParseDuration(s.LockWait); err == nil {
		return d
	}
	return DefaultLockWait
}

// Pipeline is the landscape: lanes, and the moves that are allowed between environments.
type Pipeline struct {
	Lanes []Lane `toml:"lane"`
	// Moves lists the allowed ones. Without any, work may go from each environment to
	// each other.
	Moves []Move `toml:"-"`
	// Ways are the moves as they are written, where one may begin in several environments.
	Ways    []Way    `toml:"move"`
	Gates   []Gate   `toml:"gate"`
	Freezes []Freeze `toml:"freeze"`
	Windows []Window `toml:"window"`
	Afters  []After  `toml:"after"`
	// MayOverride lists people and roles who may let a promotion through a gate that it
	// does not pass.
	MayOverride []string `toml:"may-override"`
	// MayEndBookings lists people and roles who may end bookings of every lane.
	MayEndBookings []string `toml:"may-end-bookings"`
	// OwedLimit is how long a lane may owe what live has: "10d". Its work is then not
	// promoted further. Empty for no limit.
	OwedLimit string `toml:"owed-limit"`
}

// Lane is one team's path through the pipeline.
type Lane struct {
	Name string `toml:"name"`
	// Branch is that of the lane's environments which name none.
	Branch string `toml:"branch"`
	// Developers lists who works in it.
	Developers []string `toml:"developers"`
	// About says in a line what the lane is for.
	About string `toml:"about"`
}

// Way is a move as it is written: From is a name, or a list of names.
type Way struct {
	From  any      `toml:"from"`
	To    string   `toml:"to"`
	Gates []string `toml:"gates"`
	About string   `toml:"about"`
}

// moves gives a move for each environment that a way begins in.
func (w Way) moves() ([]Move, error) {
	var from []string
	switch f := w.From.(type) {
	case string:
		from = []string{f}
	case []any:
		for _, v := range f {
			name, ok := v.(string)
			if !ok {
				return nil, errors.New("the from of a move is a name, or a list of names")
			}
			from = append(from, name)
		}
	case nil:
		return nil, errors.New("a move needs from and to")
	default:
		return nil, errors.New("the from of a move is a name, or a list of names")
	}
	var out []Move
	for _, name := range from {
		out = append(out, Move{From: name, To: w.To, Gates: w.Gates, About: w.About})
	}
	return out, nil
}

// Move allows work to go from one environment to another, through gates.
type Move struct {
	From  string   `toml:"from"`
	To    string   `toml:"to"`
	Gates []string `toml:"gates"`
	// About says what the move is for, such as "hot fix".
	About string `toml:"about"`
}

// Gate is a condition on a move: a command that passes, approvals, or one of Needs.
type Gate struct {
	Name string `toml:"name"`
	// Command is run in a folder with what the target is to hold; Within bounds its time.
	Command []string `toml:"command"`
	Within  string   `toml:"within"`
	// Files are paths that the command gets as the first branch has them: what moves can't
	// change the judge.
	Files []string `toml:"files"`
	// Approvals is how many of the people or roles in By must approve; SelfApproval lets
	// those count whose work it is.
	Approvals    int      `toml:"approvals"`
	By           []string `toml:"by"`
	SelfApproval bool     `toml:"self-approval"`
	// Needs is one of reviews, booking and signal; for a signal, By lists who may give it.
	Needs string `toml:"needs"`
	// Rest is how long the work must have been in the environment before: "24h", "3d".
	Rest string `toml:"rest"`
}

// What a gate can need.
const (
	NeedsReviews = "reviews"
	NeedsBooking = "booking"
	NeedsSignal  = "signal"
)

// Time gives the bound on the time of the gate's command.
func (g Gate) Time() time.Duration {
	if d, err := Duration(g.Within); err == nil && d > 0 {
		return d
	}
	return DefaultCheckTime
}

// Freeze is a time in which nothing may move into certain environments.
type Freeze struct {
	// Environments and Tiers choose them; neither means all.
	Environments []string `toml:"environments"`
	Tiers        []Tier   `toml:"tiers"`
	// From and Until bound it: 2026-12-18 or 2026-12-18 14:00, in local time; Until is no
	// more part of it, but a day without a time is, to its end.
	From  string `toml:"from"`
	Until string `toml:"until"`
	// Days are those of each week on which it holds, within From and Until: "Friday".
	Days []string `toml:"days"`
	Why  string   `toml:"why"`
}

// Duration reads a time such as 90m, 8h or 3d; empty is 0.
func Duration(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n <= 0 || n > 10000 {
			return 0, fmt.Errorf("%q is no time such as 90m, 8h or 3d", text)
		}
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%q is no time such as 90m, 8h or 3d", text)
	}
	return d, nil
}

// moments are the forms in which a freeze's bounds are written.
var moments = []string{"2006-01-02", "2006-01-02 15:04", time.RFC3339}

// moment reads a bound of a freeze; end takes a day without a time to its end.
func moment(text string, at *time.Location, end bool) (time.Time, error) {
	for i, form := range moments {
		t, err := time.ParseInLocation(form, text, at)
		if err != nil {
			continue
		}
		if i == 0 && end {
			t = t.AddDate(0, 0, 1)
		}
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is no day such as 2026-12-18, nor one with a time such as 2026-12-18 14:00", text)
}

// weekday reads the name of a day.
func weekday(text string) (time.Weekday, error) {
	for d := time.Sunday; d <= time.Saturday; d++ {
		if strings.EqualFold(text, d.String()) {
			return d, nil
		}
	}
	return 0, fmt.Errorf("%q is no day such as Friday", text)
}

// Holds reports whether the freeze holds for an environment at a time, in the time's zone.
func (f Freeze) Holds(e Environment, at time.Time) bool {
	if !chosen(f.Environments, f.Tiers, e) {
		return false
	}
	if f.From != "" {
		if from, err := moment(f.From, at.Location(), false); err != nil || at.Before(from) {
			return false
		}
	}
	if f.Until != "" {
		if until, err := moment(f.Until, at.Location(), true); err != nil || !at.Before(until) {
			return false
		}
	}
	return len(f.Days) == 0 || slices.ContainsFunc(f.Days, func(d string) bool {
		w, err := weekday(d)
		return err == nil &&
			w == at.Weekday()
	})
}

// Backwards reports whether the freeze ends before it begins.
func (f Freeze) Backwards() bool {
	from, err1 := moment(f.From, time.UTC, false)
	until, err2 := moment(f.Until, time.UTC, true)
	return err1 == nil && err2 == nil && !until.After(from)
}

func (f Freeze) check() error {
	for _, text := range []string{f.From, f.Until} {
		if text != "" {
			if _, err := moment(text, time.UTC, false); err != nil {
				return fmt.Errorf("a freeze can't be read: %w", err)
			}
		}
	}
	for _, d := range f.Days {
		if _, err := weekday(d); err != nil {
			return fmt.Errorf("a freeze can't be read: %w", err)
		}
	}
	if f.From == "" && f.Until == "" && len(f.Days) == 0 {
		return errors.New("a freeze needs from, until or days")
	}
	for _, t := range f.Tiers {
		if t.Rank() < 0 {
			return fmt.Errorf("a freeze names the tier %q, which is none of %s", t, tierNames())
		}
	}
	return nil
}

func tierNames() string {
	var out []string
	for _, t := range Tiers {
		out = append(out, string(t))
	}
	return strings.Join(out, ", ")
}

func (g Gate) check() error {
	if g.Name == "" {
		return errors.New("a gate has no name")
	}
	sorts := 0
	signal := g.Needs == NeedsSignal
	for _, is := range []bool{len(g.Command) > 0, g.Approvals != 0 || len(g.By) > 0 && !signal, g.Needs != "", g.Rest != ""} {
		if is {
			sorts++
		}
	}
	switch {
	case sorts != 1:
		return fmt.Errorf("the gate %s needs one of command, approvals, needs and rest", g.Name)
	case g.Approvals < 0:
		return fmt.Errorf("the gate %s can't ask for less than one approval", g.Name)
	case signal && len(g.By) == 0:
		return fmt.Errorf("the gate %s needs a signal, and says nothing under by of who gives it", g.Name)
	case g.Needs != "" && g.Needs != NeedsReviews && g.Needs != NeedsBooking && !signal:
		return fmt.Errorf("the gate %s needs %q, which is none of %s, %s and %s", g.Name, g.Needs, NeedsReviews, NeedsBooking, NeedsSignal)
	}
	for _, text := range []string{g.Within, g.Rest} {
		if _, err := Duration(text); err != nil {
			return fmt.Errorf("the gate %s: %w", g.Name, err)
		}
	}
	return nil
}

// check refuses what can't be read; what is wrong with the landscape is package
// landscape's to say.
func (p Pipeline) check() error {
	if _, err := Duration(p.OwedLimit); err != nil {
		return fmt.Errorf("owed-limit under [pipeline]: %w", err)
	}
	var errs []error
	for _, g := range p.Gates {
		errs = append(errs, g.check())
	}
	for _, f := range p.Freezes {
		errs = append(errs, f.check())
	}
	for _, l := range p.Lanes {
		if l.Name == "" {
			errs = append(errs, errors.New("a lane has no name"))
		}
	}
	for _, w := range p.Windows {
		errs = append(errs, w.check())
	}
	for _, a := range p.Afters {
		errs = append(errs, a.check())
	}
	for _, m := range p.Moves {
		if m.From == "" || m.To == "" {
			errs = append(errs, errors.New("a move needs from and to"))
		}
	}
	return errors.Join(errs...)
}

// Sites lists the targets of an environment, the first as it is declared with it.
func (e Environment) Sites() []Site { return append([]Site{e.Site}, e.Also...) }

// Folders lists the folders of the project that an environment holds.
func (e Environment) Folders() []string {
	var out []string
	for _, s := range e.Sites() {
		out = append(out, s.Into)
	}
	return out
}

// Lane gives a lane by name.
func (p Pipeline) Lane(name string) (Lane, bool) {
	i := slices.IndexFunc(p.Lanes, func(l Lane) bool { return l.Name == name })
	if i < 0 {
		return Lane{}, false
	}
	return p.Lanes[i], true
}

// Gate gives a gate by name.
func (p Pipeline) Gate(name string) (Gate, bool) {
	i := slices.IndexFunc(p.Gates, func(g Gate) bool { return g.Name == name })
	if i < 0 {
		return Gate{}, false
	}
	return p.Gates[i], true
}

// BranchOf gives the branch of an environment: its own, or its lane's; empty for none.
func (m *Manifest) BranchOf(e Environment) string {
	if e.Branch == "" {
		l, _ := m.Pipeline.Lane(e.Lane)
		return l.Branch
	}
	return e.Branch
}

// Plays reports whether a person is one of some people and roles.
func (t Team) Plays(person string, names []string) bool {
	for _, n := range names {
		if n == person || slices.Contains(t.Roles[n], person) {
			return true
		}
	}
	return false
}
