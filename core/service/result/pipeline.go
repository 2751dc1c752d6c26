package result

import (
	"time"

	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/owed"
	"oakenchest/core/pipeline"
	"oakenchest/core/project"
)

// Overview is a pipeline at a glance.
type Overview struct {
	Project      string    `json:"project"`
	Environments []Stage   `json:"environments"`
	Moves        []Move    `json:"moves"`
	Findings     []Finding `json:"findings"`
	// Files lists pages that were drawn.
	Files []string `json:"files"`
	// Planned lists promotions that are to come.
	Planned []PlannedStage `json:"planned"`
}

// PlannedStage is a promotion that is to come.
type PlannedStage struct {
	Number int64  `json:"number"`
	From   string `json:"from"`
	To     string `json:"to"`
	Person string `json:"person"`
	Time   string `json:"time"`
}

// Stage is an environment in it.
type Stage struct {
	Name        string   `json:"name"`
	Tier        string   `json:"tier"`
	Lane        string   `json:"lane"`
	Branch      string   `json:"branch"`
	Controllers []string `json:"controllers"`
	About       string   `json:"about"`
	// Word is empty, unfinished, out of reach, drifted, frozen, owed work, work waits or level.
	Word string `json:"word"`
	// Has is what it holds; null for nothing.
	Has *StageHas `json:"has"`
	// Waiting lists the commits that wait to come in.
	Waiting []Commit `json:"waiting"`
	// Owed counts what it is owed.
	Owed     int         `json:"owed"`
	Drift    *StageDrift `json:"drift"`
	Bookings []Booking   `json:"bookings"`
	// Settling lists promotions whose conflicts somebody is settling.
	Settling []Settling `json:"settling"`
	// Freeze says why nothing may come in; null when it may.
	Freeze *string `json:"freeze"`
}

// StageHas is what a stage holds.
type StageHas struct {
	State   string `json:"state"`
	Commit  string `json:"commit"`
	Release string `json:"release"`
	Time    string `json:"time"`
	Author  string `json:"author"`
}

// StageDrift is what the last look at a stage found.
type StageDrift struct {
	Time    string `json:"time"`
	Changes int    `json:"changes"`
	Failure string `json:"failure"`
}

// Settling is a promotion that somebody settles.
type Settling struct {
	From   string `json:"from"`
	Person string `json:"person"`
	Time   string `json:"time"`
}

// Move is a way from one environment to another.
type Move struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Waiting counts the commits that would go.
	Waiting int      `json:"waiting"`
	Gates   []string `json:"gates"`
	About   string   `json:"about"`
	// Open says that no gate is shut, Stands how each stands, as the records have it; where work waits.
	Open   bool   `json:"open"`
	Stands []Gate `json:"stands"`
	// Mine lists what you can do for it, as calls.
	Mine []string `json:"mine"`
}

// Finding is something wrong with a landscape.
type Finding struct {
	Where string `json:"where"`
	What  string `json:"what"`
	Do    string `json:"do"`
	Grave bool   `json:"grave"`
}

// Schema names it.
func (Overview) Schema() string { return "oaken.pipeline/1" }

// OverviewOf gives a pipeline, and the pages that were drawn of it.
func OverviewOf(o *pipeline.Overview, written []string) Overview {
	out := Overview{Project: o.Project, Environments: []Stage{}, Findings: FindingsOf(o.Findings), Files: List(written),
		Planned: []PlannedStage{}}
	for i := range o.Stages {
		out.Environments = append(out.Environments, stage(&o.Stages[i], o.At))
	}
	out.Moves = each(o.Moves, func(m pipeline.MoveView) Move {
		return Move{m.From, m.To, m.Waiting, List(m.Gates), m.About, m.Waiting > 0 && m.Stand.Open, GatesOf(m.Stand.Gates),
			List(m.Stand.Mine)}
	})
	for _, p := range o.Planned {
		out.Planned = append(out.Planned, PlannedStage{p.ID, p.Origin, p.Target, p.Person, Time(p.Due)})
	}
	return out
}

func stage(s *pipeline.StageView, at time.Time) Stage {
	out := Stage{
		Name: s.Name, Tier: string(s.Tier), Lane: s.Lane, Branch: s.Branch, Controllers: List(s.Controllers), About: s.About,
		Word: s.Word(), Waiting: CommitsOf(s.Waiting),
		Owed: len(s.Owed), Bookings: each(s.Bookings, func(b landscape.Slot) Booking { return BookingOf(b, at) }), Settling: []Settling{},
	}
	if s.Has != nil {
		out.Has = &StageHas{project.Label(*s.Has), s.Has.ID.String(), s.Release, Time(s.When), s.By}
	}
	if s.Drift != nil {
		out.Drift = &StageDrift{Time(s.Drift.Time), s.Drift.Differences, s.Drift.Failure}
	}
	if s.Freeze != nil {
		out.Freeze = &s.Freeze.Why
	}
	for _, p := range s.Settling {
		out.Settling = append(out.Settling, Settling{p.Origin, p.Person, Time(p.Time)})
	}
	return out
}

// FindingsOf gives findings.
func FindingsOf(list []landscape.Finding) []Finding {
	return each(list, func(f landscape.Finding) Finding { return Finding{f.Where, f.What, f.Do, f.Grave} })
}

// PipelineChecked is what is wrong with a landscape.
type PipelineChecked struct {
	// Good says that nothing grave is.
	Good     bool      `json:"good"`
	Findings []Finding `json:"findings"`
}

// Schema names it.
func (PipelineChecked) Schema() string { return "oaken.pipeline-check/1" }

// Declared is something that was declared.
type Declared struct {
	Declared string    `json:"declared"`
	Findings []Finding `json:"findings"`
}

// Schema names it.
func (Declared) Schema() string { return "oaken.declared/1" }

// Promoted is a promotion, or the plan of one.
type Promoted struct {
	From        string `json:"from"`
	To          string `json:"to"`
	Environment string `json:"environment"`
	Lane        string `json:"lane"`
	Branch      string `json:"branch"`
	Source      string `json:"source"`
	// Moves lists what goes; Ahead what TO has and FROM has not, Lost what would be lost of that.
	Moves []Commit `json:"moves"`
	Ahead []Commit `json:"ahead"`
	Lost  []Commit `json:"lost"`
	// Needs lists what has to go too.
	Needs     []Need     `json:"needs"`
	Conflicts []Conflict `json:"conflicts"`
	Settled   []Chosen   `json:"settled"`
	Changes   []Change   `json:"changes"`
	// Untested lists folders that FROM does not hold.
	Untested []string `json:"untested"`
	Gates    []Gate   `json:"gates"`
	Steps    []Step   `json:"steps"`
	Done     bool     `json:"done"`
	Commit   *Commit  `json:"commit"`
	Saved    string   `json:"saved"`
	// Plan is the plan that was written or followed; null for none.
	Plan *Plan `json:"plan"`
	// After is what came of the commands that must pass afterwards; null where there are none.
	After *After `json:"after"`
	// Shipped lists planned releases that became releases by it.
	Shipped []string `json:"shipped"`
	// Error is why it was refused or failed; the rest says what it would have done.
	Error *Failure `json:"error,omitempty"`
}

// Promotions are several promotions, one after the other.
type Promotions struct {
	Promotions []Promoted `json:"promotions"`
	// Error is why one of them was refused or failed.
	Error *Failure `json:"error,omitempty"`
}

// Schema names it.
func (Promotions) Schema() string { return "oaken.promotions/1" }

// PlannedMoves lists promotions that are planned.
type PlannedMoves struct {
	Planned []PlannedMove `json:"planned"`
}

// Schema names it.
func (PlannedMoves) Schema() string { return "oaken.planned/1" }

// PlannedMove is a promotion for a time.
type PlannedMove struct {
	Number int64  `json:"number"`
	From   string `json:"from"`
	To     string `json:"to"`
	Commit Commit `json:"commit"`
	Item   string `json:"item"`
	Lane   string `json:"lane"`
	Person string `json:"person"`
	Time   string `json:"time"`
	// Outcome is empty while it is to come, then done, refused, failed or called off.
	Outcome string `json:"outcome"`
	Said    string `json:"said"`
	Ended   string `json:"ended"`
}

// PlannedMoveOf gives a planned promotion with the commit that it is of.
func PlannedMoveOf(p ledger.Planned, c ledger.Commit) PlannedMove {
	return PlannedMove{Number: p.ID, From: p.Origin, To: p.Target, Commit: CommitOf(c), Item: p.Item, Lane: p.Lane, Person: p.Person,
		Time: Time(p.Due), Outcome: p.Outcome, Said: p.Said, Ended: Time(p.Ended)}
}

// Need is work without which other work can't go.
type Need struct {
	Commit  Commit `json:"commit"`
	For     string `json:"for"`
	How     string `json:"how"`
	Address string `json:"address"`
}

// Chosen is a choice that was made in a conflict.
type Chosen struct {
	Address string `json:"address"`
	Keep    string `json:"keep"`
	Value   string `json:"value"`
	Person  string `json:"person"`
	Time    string `json:"time"`
}

// ChosenOf gives choices.
func ChosenOf(list []ledger.Chosen) []Chosen {
	return each(list, func(x ledger.Chosen) Chosen { return Chosen{x.Address, x.Keep, x.Value, x.Person, Time(x.Time)} })
}

// Gate is a gate as it stands.
type Gate struct {
	Name string `json:"name"`
	// Verdict is open, shut, to be run or overridden.
	Verdict string `json:"verdict"`
	Said    string `json:"said"`
	// Do says what opens it.
	Do           string `json:"do"`
	Milliseconds int64  `json:"milliseconds"`
}

// GatesOf gives gates.
func GatesOf(list []pipeline.GateResult) []Gate {
	return each(list, func(g pipeline.GateResult) Gate { return Gate{g.Name, string(g.Verdict), g.Said, g.Do, g.Took} })
}

// Schema names it.
func (Promoted) Schema() string { return "oaken.promote/1" }

// PromotedOf gives a promotion.
func PromotedOf(p *pipeline.Promotion) Promoted {
	out := Promoted{
		From: p.From.Name, To: p.To.Name, Environment: p.To.Name, Lane: p.Lane, Branch: p.Branch, Source: project.Label(p.Source),
		Moves: CommitsOf(p.Moving),
		Ahead: CommitsOf(p.Ahead), Lost: CommitsOf(p.Lost), Needs: []Need{}, Conflicts: ConflictsOf(p.Conflicts),
		Settled: ChosenOf(p.Settled),
		Changes: ChangesOf(p.Differences), Untested: List(p.Untested()), Gates: GatesOf(p.Gates), Steps: []Step{},
		Shipped: List(p.Shipped),
	}
	for _, n := range p.Needs {
		out.Needs = append(out.Needs, Need{CommitOf(n.Commit), project.Label(n.For), string(n.How), n.What.String()})
	}
	if d := p.Deployment; d != nil {
		out.Steps, out.Done, out.Saved, out.After = DeployedOf(d, "env:"+p.From.Name).Steps, d.Done, d.Saved, AfterOf(d.After)
	}
	if p.Commit.Depth > 0 {
		out.Commit = OptionalCommit(&p.Commit)
	}
	return out
}

// Scheduled is a promotion for a scheduler.
type Scheduled struct {
	// Number is that of the planned promotion.
	Number int64 `json:"number"`
	// Time is when it is due, Command what a scheduler runs every few minutes.
	Time    string `json:"time"`
	Command string `json:"command"`
}

// Schema names it.
func (Scheduled) Schema() string { return "oaken.schedule/1" }

// Approved is what somebody approved.
type Approved struct {
	Environment string   `json:"environment"`
	From        string   `json:"from"`
	Commit      Commit   `json:"commit"`
	Person      string   `json:"person"`
	Withdrawn   bool     `json:"withdrawn"`
	Settled     []Chosen `json:"settled"`
	Gates       []Gate   `json:"gates"`
	// Work lists what comes with it, the oldest first.
	Work []Commit `json:"work"`
	// Signal is the gate that it is a signal for; empty for an approval.
	Signal string `json:"signal"`
	// Plan is the plan that was approved, and nothing else with it; null where the work was.
	Plan *Plan `json:"plan"`
}

// Schema names it.
func (Approved) Schema() string { return "oaken.approve/1" }

// Bookings is who has an environment, and when.
type Bookings struct {
	Environment string    `json:"environment"`
	Bookings    []Booking `json:"bookings"`
	// Booked is what was booked just now; null for nothing.
	Booked *Booking `json:"booked"`
}

// Booking is one of them.
type Booking struct {
	Number int64 `json:"number"`
	// Environment is the one that is booked.
	Environment string `json:"environment"`
	Lane        string `json:"lane"`
	Person      string `json:"person"`
	From        string `json:"from"`
	Until       string `json:"until"`
	// Holds says that it is now.
	Holds bool   `json:"holds"`
	Note  string `json:"note"`
}

// Schema names it.
func (Bookings) Schema() string { return "oaken.bookings/1" }

// BookingOf gives a booking, as it stands at a time.
func BookingOf(s landscape.Slot, now time.Time) Booking {
	return Booking{s.ID, s.Environment, s.Lane, s.Person, Time(s.From), Time(s.Until), s.Holds(now), s.Note}
}

// Owed is what is owed.
type Owed struct {
	Owed []Debt `json:"owed"`
	// Besides counts work that was not asked for.
	Besides int `json:"besides"`
	// Empty lists stages that nothing was deployed to.
	Empty     []string    `json:"empty"`
	TakenBack []TakenBack `json:"takenBack"`
}

// Debt is what one environment is owed.
type Debt struct {
	Lane        string       `json:"lane"`
	Environment string       `json:"environment"`
	Commits     []OwedCommit `json:"commits"`
}

// OwedCommit is a commit that it is owed.
type OwedCommit struct {
	Commit
	// In says where it is, Since since when.
	In    string `json:"in"`
	Since string `json:"since"`
	// Merged says that the branch has it.
	Merged bool `json:"merged"`
	// First is the state that did it first, if this is a pick.
	First string `json:"first"`
}

// TakenBack is work that was taken back from an environment, which is not owed to it.
type TakenBack struct {
	Environment string   `json:"environment"`
	Commits     []Commit `json:"commits"`
}

// Schema names it.
func (Owed) Schema() string { return "oaken.owed/1" }

// OwedOf gives what is owed, and what was taken back.
func OwedOf(list []owed.Debt, besides int, empty []string, back []owed.Debt) Owed {
	out := Owed{Owed: []Debt{}, Besides: besides, Empty: List(empty), TakenBack: []TakenBack{}}
	for _, d := range list {
		out.Owed = append(out.Owed, Debt{d.Lane, d.Environment, each(d.Works, func(x owed.Work) OwedCommit {
			return OwedCommit{CommitOf(x.Commit), x.Where, Time(x.Since), x.Merged, project.Label(x.First)}
		})})
	}
	for _, d := range back {
		out.TakenBack = append(out.TakenBack,
			TakenBack{d.Environment, each(d.TakenBack, func(x owed.Work) Commit { return CommitOf(x.Commit) })})
	}
	return out
}

// Backfills is what was brought back to lanes, or would be.
type Backfills struct {
	DryRun    bool       `json:"dryRun"`
	Backfills []Backfill `json:"backfills"`
}

// Backfill is what one lane gets.
type Backfill struct {
	Lane         string           `json:"lane"`
	Branches     []BackfillBranch `json:"branches"`
	Environments []BackfillStage  `json:"environments"`
}

// BackfillBranch is what a branch of it gets.
type BackfillBranch struct {
	Branch    string     `json:"branch"`
	Brings    []Commit   `json:"brings"`
	Conflicts []Conflict `json:"conflicts"`
	Merged    []Commit   `json:"merged"`
}

// BackfillStage is what an environment of it gets.
type BackfillStage struct {
	Environment string `json:"environment"`
	Done        bool   `json:"done"`
	// Left says why it was left.
	Left  string `json:"left"`
	Steps int    `json:"steps"`
}

// Schema names it.
func (Backfills) Schema() string { return "oaken.backfill/1" }

// BackfillOf gives what a lane gets.
func BackfillOf(b *pipeline.Backfill) Backfill {
	out := Backfill{Lane: b.Lane, Branches: []BackfillBranch{}, Environments: []BackfillStage{}}
	for _, x := range b.Branches {
		brings := each(x.Brings, func(work owed.Work) Commit { return CommitOf(work.Commit) })
		out.Branches = append(out.Branches, BackfillBranch{x.Name, brings, ConflictsOf(x.Conflicts), CommitsOf(x.Merged)})
	}
	for _, s := range b.Stages {
		out.Environments = append(out.Environments, BackfillStage{s.Environment, s.Done, s.Left, s.Steps})
	}
	return out
}

// Lookalikes lists what lanes have added that looks alike.
type Lookalikes struct {
	Lookalikes []Lookalike `json:"lookalikes"`
}

// Lookalike is two things that look alike.
type Lookalike struct {
	Score float64  `json:"score"`
	One   LaneItem `json:"one"`
	Other LaneItem `json:"other"`
	Why   []string `json:"why"`
	// Distinct says that somebody marked them as different.
	Distinct bool `json:"distinct"`
}

// LaneItem is a thing of a lane.
type LaneItem struct {
	Lane    string `json:"lane"`
	Address string `json:"address"`
}

// Schema names it.
func (Lookalikes) Schema() string { return "oaken.lookalikes/1" }

// LookalikesOf gives them.
func LookalikesOf(list []pipeline.Lookalike) Lookalikes {
	return Lookalikes{each(list, func(p pipeline.Lookalike) Lookalike {
		return Lookalike{p.Score, LaneItem{p.One.Lane, p.One.Address}, LaneItem{p.Other.Lane, p.Other.Address}, List(p.Why),
			p.Distinct != nil}
	})}
}

// Distinct is two things that were marked as different, or no more.
type Distinct struct {
	One      string `json:"one"`
	Other    string `json:"other"`
	Distinct bool   `json:"distinct"`
}

// Schema names it.
func (Distinct) Schema() string { return "oaken.distinct/1" }
