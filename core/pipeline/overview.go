package pipeline

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/environment"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
)

// Overview is the whole landscape with what every environment has, waits for and is owed.
// It is read from the records; no environment is reached.
type Overview struct {
	Project   string
	Landscape *landscape.Landscape
	Stages    []StageView
	Moves     []MoveView
	Findings  []landscape.Finding
	// Planned are the promotions that are to come.
	Planned []ledger.Planned
	At      time.Time
}

// StageView is one environment of an overview.
type StageView struct {
	manifest.Environment
	// Branch is that of the environment or of its lane.
	Branch string
	// Column is the place of the stage from left to right.
	Column int
	// Has is what was deployed last, When and By whom; nil when nothing was.
	Has     *ledger.Commit
	When    time.Time
	By      string
	Release string // the release that it has, if any
	// After is what came of the commands that must pass after the last deployment; nil for none.
	After *Aftermath
	// Unfinished says that a deployment was begun and did not end.
	Unfinished bool
	// Waiting lists work that the environments before it have and it has not; Owed what it
	// has not and later ones have.
	Waiting []ledger.Commit
	Owed    []owed.Work
	// Drift is what was seen when it was looked at last; nil when nobody looked since the
	// last deployment.
	Drift *ledger.Look
	// Bookings are those that have not ended; Freeze the one that holds, if any.
	Bookings []landscape.Slot
	Freeze   *manifest.Freeze
	// Settling lists the promotions into it whose conflicts people settle.
	Settling []ledger.Pending
}

// MoveView is a move with the work that could go.
type MoveView struct {
	manifest.Move
	Waiting int
	Gates   []string
	// Has is what its beginning holds; Stand how it stands, where work waits.
	Has   ledger.Commit
	Stand Stand
}

// Overview reads the whole landscape.
func (m *Mover) Overview(ctx context.Context) (*Overview, error) {
	l := m.rules(ctx)
	c := m.Project.Chest
	o := &Overview{Project: l.Manifest.Project, Landscape: l, Findings: l.Check(m.targets()), At: m.Now()}
	looks, err := c.Looks(ctx)
	if err != nil {
		return nil, err
	}
	bookings, err := c.Bookings(ctx)
	if err != nil {
		return nil, err
	}
	releases, err := c.Releases(ctx)
	if err != nil {
		return nil, err
	}
	settling, err := c.PendingPromotions(ctx)
	if err != nil {
		return nil, err
	}
	if o.Planned, err = m.Planned(ctx, false); err != nil {
		return nil, err
	}
	column := l.Column()
	err = owed.View(ctx, c, l, func(b *owed.Book) error {
		for _, e := range l.Staged() {
			s := StageView{Environment: e, Branch: l.Manifest.BranchOf(e), Column: column[e.Name],
				Bookings: landscape.Coming(bookings, e.Name, m.Now())}
			s.Settling = slices.DeleteFunc(slices.Clone(settling), func(p ledger.Pending) bool { return p.Target != e.Name })
			if f, ok := landscape.Frozen(l.Manifest, e, m.Now().Local()); ok {
				s.Freeze = &f
			}
			if err := stageHas(b, &s, looks, releases); err != nil {
				return err
			}
			o.Stages = append(o.Stages, s)
		}
		for _, move := range l.Manifest.Pipeline.Moves {
			has, waiting, err := waitingAlong(b, move)
			if err != nil {
				return err
			}
			o.Moves = append(o.Moves, MoveView{Move: move, Waiting: len(waiting), Gates: l.Gates(move), Has: has})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i := range o.Stages {
		kept, ok, err := c.LastKept(ctx, o.Stages[i].Name)
		if err != nil {
			return nil, err
		}
		o.Stages[i].Unfinished = ok && kept.Deployment == 0
		if o.Stages[i].After, err = m.afterOf(ctx, o.Stages[i].Name); err != nil {
			return nil, err
		}
	}
	return o, m.standAll(ctx, o)
}

// targets is what is known of targets, whose relative paths begin in the workspace's folder.
func (m *Mover) targets() *landscape.Targets {
	return &landscape.Targets{Place: m.Host.Place, KindOf: func(target string) string {
		kind, _ := environment.KindOf(target) // what reaches it is another finding
		return kind
	}}
}

// LandscapeOf gives the landscape that a manifest declares, whether it counts or not.
func LandscapeOf(m *manifest.Manifest) *landscape.Landscape { return landscape.Of(m) }

// BuiltIn reports whether a name is that of a gate that every move has.
func BuiltIn(name string) bool { return landscape.BuiltIn(name) }

// Check finds what is wrong with the landscape that a manifest declares.
func (m *Mover) Check(l *landscape.Landscape) []landscape.Finding { return l.Check(m.targets()) }

// stageHas fills in what one environment has, waits for and is owed.
func stageHas(b *owed.Book, s *StageView, looks map[string]ledger.Look, releases []ledger.Release) error {
	if has, ok := b.Standing[s.Name]; ok {
		list := b.Deployed[s.Name]
		last := list[len(list)-1]
		s.Has, s.When, s.By = &has, last.Time, last.Author
		for _, r := range releases {
			if r.Commit == has.ID {
				s.Release = r.Name
			}
		}
		if look, ok := looks[s.Name]; ok && !look.Time.Before(last.Time) {
			s.Drift = &look
		}
	}
	for _, move := range b.Landscape.Into(s.Name) {
		_, works, err := waitingAlong(b, move)
		if err != nil {
			return err
		}
		for _, w := range works {
			root := b.Arrived.Root(w.ID)
			if !slices.ContainsFunc(s.Waiting, func(o ledger.Commit) bool { return b.Arrived.Root(o.ID) == root }) {
				s.Waiting = append(s.Waiting, w)
			}
		}
	}
	d, err := b.To(s.Environment)
	s.Owed = d.Works
	return err
}

// waitingAlong lists the work that a move could take: what its beginning has, which it gives too, and its end has not.
func waitingAlong(b *owed.Book, move manifest.Move) (has ledger.Commit, waiting []ledger.Commit, err error) {
	from, err := b.Landscape.Manifest.Environment(move.From)
	if err != nil {
		return has, nil, nil // what is wrong with it, Check says
	}
	has, ok := b.Offers(from)
	if !ok {
		return has, nil, nil
	}
	waiting, err = b.Arrived.Missing(b.Standing[move.To], has)
	return has, waiting, err
}

// Lanes lists the names of the lanes that stages belong to, shared ones as the empty name
// at the end.
func (o *Overview) Lanes() []string {
	var out []string
	for _, l := range o.Landscape.Manifest.Pipeline.Lanes {
		out = append(out, l.Name)
	}
	for _, s := range o.Stages {
		if s.Lane != "" && !slices.Contains(out, s.Lane) {
			out = append(out, s.Lane)
		}
	}
	return append(out, "")
}

// Word says in a word how a stage stands: empty, unfinished, drifted, frozen, owed, waiting
// or level.
func (s *StageView) Word() string {
	switch {
	case s.Unfinished:
		return "unfinished"
	case s.After != nil && (s.After.Outcome == AfterDoubt || s.After.Outcome == AfterPending):
		return "in doubt"
	case s.Has == nil:
		return "empty"
	case s.Drift != nil && s.Drift.Failure != "":
		return "out of reach"
	case s.Drift != nil && s.Drift.Differences > 0:
		return "drifted"
	case s.Freeze != nil:
		return "frozen"
	case len(s.Owed) > 0:
		return "owed work"
	case len(s.Waiting) > 0:
		return "work waits"
	}
	return "level"
}

// Targets writes where a stage is, without the secrets that somebody wrote into it.
func (s *StageView) Targets() string {
	var out []string
	for _, site := range s.Sites() {
		out = append(out, environment.Shown(site.Target))
	}
	return strings.Join(out, ", ")
}
