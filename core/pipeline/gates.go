package pipeline

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"oakenchest/core/check"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/state"
)

// Verdict is the word for how a gate stands.
type Verdict string

// How a gate stands.
const (
	Open       Verdict = "open"
	Shut       Verdict = "shut"
	ToBeRun    Verdict = "to be run" // a command, which runs when the work really moves
	Overridden Verdict = "overridden"
)

// GateResult is how a gate stands for a move.
type GateResult struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	// Said tells why, in a sentence without its full stop.
	Said string `json:"said"`
	// Do says what would open it; empty for one that is open.
	Do string `json:"do,omitempty"`
	// Took is how long a command ran, in milliseconds.
	Took int64 `json:"took,omitempty"`
	// Output is what a command wrote; it is kept beside.
	Output string `json:"-"`
}

// judge gives the verdict, unless there is one: what still has to be done shuts a gate.
func (r *GateResult) judge() {
	switch {
	case r.Verdict != "":
	case r.Do != "":
		r.Verdict = Shut
	default:
		r.Verdict = Open
	}
}

// The names of the gates that every move has.
const (
	GateOrder   = landscape.GateOrder
	GateDrift   = landscape.GateDrift
	GateFreeze  = landscape.GateFreeze
	GateBooking = landscape.GateBooking
	GateOwed    = landscape.GateOwed
	GateControl = landscape.GateControl
	GateAgain   = landscape.GateAgain
	GateLane    = landscape.GateLane
	GateWindow  = landscape.GateWindow
	GateProof   = landscape.GateProof
)

// addGate adds a gate, judged by whether there is something to do.
func (p *Promotion) addGate(name, said, do string) {
	r := GateResult{Name: name, Said: said, Do: do}
	r.judge()
	p.Gates = append(p.Gates, r)
}

// firstGates are shut where nobody can tell what the rules let pass, and where work would go.
func (m *Mover) firstGates(p *Promotion) {
	if m.unread != nil {
		p.addGate(GateControl, "the rules can't be read: "+m.unread.Error(), "Mend oaken.toml on branch "+chest.FirstBranch+" first.")
	}
	if len(p.Lost) > 0 {
		p.addGate(GateOrder, fmt.Sprintf("%s has work that would go from it: %s", p.To.Name, labels(p.Lost, 3)),
			"Bring it back first: oaken owed shows what is missing where, oaken backfill brings it.")
	}
}

// ownGates judges the gates that every move has.
func (m *Mover) ownGates(ctx context.Context, l *landscape.Landscape, p *Promotion) error {
	add := p.addGate
	m.firstGates(p)
	if err := m.againGate(ctx, p, add); err != nil {
		return err
	}
	if err := m.laneGate(ctx, l, p, add); err != nil {
		return err
	}
	if err := m.driftGate(ctx, p, add); err != nil {
		return err
	}
	return m.standingGates(ctx, l, p, add)
}

// standingGates judges those of them that the records alone say.
func (m *Mover) standingGates(ctx context.Context, l *landscape.Landscape, p *Promotion, add func(name, said, do string)) error {
	if f, ok := landscape.Frozen(l.Manifest, p.To, m.Now().Local()); ok {
		why := ""
		if f.Why != "" {
			why = ": " + f.Why
		}
		add(GateFreeze, p.To.Name+" is frozen"+untilOf(f)+why, "Wait until the freeze is over.")
	}
	if err := m.proofGate(ctx, p, add); err != nil {
		return err
	}
	m.windowGate(l, p, add)
	if err := m.bookingGate(ctx, p, add); err != nil {
		return err
	}
	if err := m.owedGate(l, p, add); err != nil {
		return err
	}
	if len(p.To.Controllers) > 0 && !l.Manifest.Team.Plays(m.Project.Person, p.To.Deciders()) {
		add(GateControl, fmt.Sprintf("%s controls %s", listAnd(p.To.Controllers), p.To.Name), "Ask them to promote it.")
	}
	return nil
}

// windowGate is shut outside of the windows that there are for the target.
func (m *Mover) windowGate(l *landscape.Landscape, p *Promotion, add func(name, said, do string)) {
	now := m.Now().Local()
	open, next, any := landscape.Windows(l.Manifest, p.To, now)
	switch {
	case !any:
	case open:
		add(GateWindow, p.To.Name+" takes work at this time", "")
	case next.IsZero():
		add(GateWindow, p.To.Name+" never takes work: none of its windows opens", "Correct them under [[pipeline.window]] in oaken.toml.")
	default:
		add(GateWindow, p.To.Name+" takes no work at this time", "Its window opens on "+next.Format("Monday 2006-01-02 15:04")+".")
	}
}

func untilOf(f manifest.Freeze) string {
	switch {
	case f.Until != "":
		return " until " + f.Until
	case len(f.Days) > 0:
		return " on " + listAnd(f.Days)
	}
	return ""
}

// againGate is shut when work moves that was taken back from the target, until somebody says
// that it is to come again.
func (m *Mover) againGate(ctx context.Context, p *Promotion, add func(name, said, do string)) error {
	if len(p.Deployment.Again) == 0 {
		return nil
	}
	a := p.Deployment.Again[len(p.Deployment.Again)-1]
	c, err := m.Project.Chest.Commit(ctx, a.Work)
	if err != nil {
		return err
	}
	what := label(c)
	if c.Item != "" {
		what += " (" + c.Item + ")"
	}
	if n := len(p.Deployment.Again) - 1; n > 0 {
		what = fmt.Sprintf("%s and %d more were", what, n)
	} else {
		what += " was"
	}
	said := fmt.Sprintf("%s taken back from %s by %s on %s", what, p.To.Name, a.Person, a.Time.Local().Format("2006-01-02 15:04"))
	if a.Reason != "" {
		said += ": " + a.Reason
	}
	do := "If it is to come again, say --again; other work moves with --item."
	if p.again {
		said, do = said+"; it comes again, as asked", ""
	}
	add(GateAgain, said, do)
	return nil
}

// AsksAgain says that a promotion waits for somebody to say that work is to come again.
func (p *Promotion) AsksAgain() bool {
	return slices.ContainsFunc(p.Gates, func(g GateResult) bool { return g.Name == GateAgain && g.Verdict == Shut })
}

// BringAgain says so.
func (p *Promotion) BringAgain() {
	p.again = true
	for i := range p.Gates {
		if p.Gates[i].Name == GateAgain {
			p.Gates[i].Verdict, p.Gates[i].Do = Open, ""
		}
	}
}

// driftGate is shut when somebody changed the target by hand.
func (m *Mover) driftGate(ctx context.Context, p *Promotion, add func(name, said, do string)) error {
	if !p.Deployment.Unfinished.IsZero() {
		return m.resumeGate(ctx, p, add)
	}
	if p.Standing == nil {
		unknown, err := m.unknownTo(ctx, p.To, p.Deployment.target)
		if err == nil && len(unknown) > 0 {
			p.Deployment.Unknown = unknown
			add(GateDrift, fmt.Sprintf("%s has what no commit knows, and this would change it: %s", p.To.Name, firstOf(unknown, 5)),
				"Bring that into the chest with oaken capture "+fault.Word(p.To.Name)+".")
		}
		return err
	}
	d, err := m.Drift(ctx, p.To.Name)
	if err != nil {
		return err
	}
	if len(d.Differences) == 0 {
		add(GateDrift, p.To.Name+" is as it was deployed", "")
		return nil
	}
	p.Drift = d.Differences
	add(GateDrift, fmt.Sprintf("%s differs from %s, which was deployed there", p.To.Name, label(*p.Standing)),
		"Keep it with oaken drift "+fault.Word(p.To.Name)+" --keep BRANCH, or take it back with oaken drift "+
			fault.Word(p.To.Name)+" --undo.")
	return nil
}

// bookingGate is shut when another lane has booked the target.
func (m *Mover) bookingGate(ctx context.Context, p *Promotion, add func(name, said, do string)) error {
	all, err := m.Project.Chest.Bookings(ctx)
	if err != nil {
		return err
	}
	if s, ok := landscape.Held(all, p.To.Name, m.Now()); ok && !p.isFor(s.Lane) {
		add(GateBooking, fmt.Sprintf("%s is booked for %s by %s until %s", p.To.Name, s.Lane, s.Person,
			s.Until.Local().Format("2006-01-02 15:04")), "Wait, or queue up with oaken book "+p.To.Name+laneFlag(p.Lane)+" --for 2d.")
	} else if ok {
		add(GateBooking, fmt.Sprintf("%s is booked for %s until %s", p.To.Name, s.Lane, s.Until.Local().Format("2006-01-02 15:04")), "")
	}
	return nil
}

// isFor reports whether a promotion is done for a lane, or brings work of it and is done
// for none.
func (p *Promotion) isFor(lane string) bool {
	return p.Lane == lane || p.Lane == "" && slices.Contains(p.Lanes, lane)
}

func laneFlag(lane string) string {
	if lane == "" {
		return ""
	}
	return " --lane " + lane
}

// owedGate is shut when the lane has owed what live has for too long.
func (m *Mover) owedGate(l *landscape.Landscape, p *Promotion, add func(name, said, do string)) error {
	limit, err := manifest.Duration(l.Manifest.Pipeline.OwedLimit)
	lane, ok := l.Manifest.Pipeline.Lane(p.Lane)
	if err != nil || limit == 0 || !ok {
		return err
	}
	var late []owed.Work
	for _, work := range p.owes {
		if m.Now().Sub(work.Since) > limit {
			late = append(late, work)
		}
	}
	if len(late) == 0 {
		add(GateOwed, lane.Name+" owes nothing for longer than "+l.Manifest.Pipeline.OwedLimit, "")
		return nil
	}
	slices.SortFunc(late, func(a, b owed.Work) int { return a.Since.Compare(b.Since) })
	add(GateOwed, fmt.Sprintf("%s has owed %s of live for more than %s, since %s", lane.Name, commitsOf(late),
		l.Manifest.Pipeline.OwedLimit, late[0].Since.Local().Format("2006-01-02")),
		"Bring it back: oaken backfill "+fault.Word(lane.Name)+".")
	return nil
}

func commitsOf(list []owed.Work) string {
	var out []ledger.Commit
	for _, w := range list {
		out = append(out, w.Commit)
	}
	return labels(out, 3)
}

// declaredGates judges the gates that the project declares for the move, but for commands.
func (m *Mover) declaredGates(ctx context.Context, l *landscape.Landscape, p *Promotion) error {
	for _, name := range l.Gates(p.Move) {
		g, ok := l.Manifest.Pipeline.Gate(name)
		r := GateResult{Name: name}
		var err error
		switch {
		case !ok || landscape.BuiltIn(name):
			r.Verdict, r.Said, r.Do = Shut, "there is no gate of that name",
				"Declare it under [[pipeline.gate]] in oaken.toml, with a name of its own."
		case len(g.Command) > 0:
			r.Verdict, r.Said = ToBeRun, strings.Join(g.Command, " ")
		case g.Needs == manifest.NeedsReviews:
			err = m.reviewsGate(ctx, p, &r)
		case g.Needs == manifest.NeedsBooking:
			err = m.bookedGate(ctx, p, &r)
		case g.Needs == manifest.NeedsSignal:
			err = m.signalGate(ctx, l, p, g, &r)
		case g.Rest != "":
			err = m.restGate(ctx, p, g, &r)
		default:
			err = m.approvalGate(ctx, l, p, g, &r)
		}
		if err != nil {
			return err
		}
		r.judge()
		p.Gates = append(p.Gates, r)
	}
	return nil
}

// reviewsGate asks that all work came through reviews that were merged.
func (m *Mover) reviewsGate(ctx context.Context, p *Promotion, r *GateResult) error {
	without, err := m.unreviewed(ctx, p.Moving)
	if err != nil {
		return err
	}
	r.Said = "all work came through reviews"
	if len(without) > 0 {
		r.Said = labels(without, 3) + " came through no review"
		r.Do = "Let it be looked at: oaken review open."
	}
	return nil
}

// bookedGate asks for a booking of the lane.
func (m *Mover) bookedGate(ctx context.Context, p *Promotion, r *GateResult) error {
	all, err := m.Project.Chest.Bookings(ctx)
	if err != nil {
		return err
	}
	if s, ok := landscape.Held(all, p.To.Name, m.Now()); ok && p.isFor(s.Lane) {
		r.Said = fmt.Sprintf("booked for %s until %s", s.Lane, s.Until.Local().Format("2006-01-02 15:04"))
		return nil
	}
	r.Said = fmt.Sprintf("%s is not booked for this lane", p.To.Name)
	r.Do = "Book it: oaken book " + p.To.Name + laneFlag(p.Lane) + " --for 2d."
	return nil
}

// restGate asks that the work has been in the environment before for a while.
func (m *Mover) restGate(ctx context.Context, p *Promotion, g manifest.Gate, r *GateResult) error {
	rest, err := manifest.Duration(g.Rest)
	if err != nil {
		return err
	}
	d, ok, err := m.Project.Chest.LastDeployment(ctx, p.From.Name)
	if err != nil {
		return err
	}
	if !ok || d.Commit != p.Source.ID {
		r.Said, r.Do = p.From.Name+" has it only now", "Promote it again after "+g.Rest+"."
		return nil
	}
	been := m.Now().Sub(d.Time)
	r.Said = fmt.Sprintf("in %s for %s", p.From.Name, Span(been))
	if been < rest {
		r.Do = fmt.Sprintf("It must have been there for %s: from %s on.", g.Rest, d.Time.Add(rest).Local().Format("2006-01-02 15:04"))
	}
	return nil
}

// Span writes a length of time for people: 20 min, 5 h, 3 days.
func Span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// approvalGate asks that enough of certain people want the commit in the environment.
func (m *Mover) approvalGate(ctx context.Context, l *landscape.Landscape, p *Promotion, g manifest.Gate, r *GateResult) error {
	given, err := m.Project.Chest.Assents(ctx, p.To.Name, p.Source.ID)
	if err != nil {
		return err
	}
	var yes, own, lapsed []string
	once := func(list *[]string, person string) { // who approves a plan and its work too is one person still
		if !slices.Contains(*list, person) {
			*list = append(*list, person)
		}
	}
	for _, a := range given {
		author := slices.ContainsFunc(p.Moving, func(c ledger.Commit) bool { return c.Author == a.Person }) ||
			slices.Contains(people(p.Settled), a.Person)
		switch {
		case a.Gate != "" || a.Plan != "" && a.Plan != p.plan: // it is for something else
		case a.Plan == "" && a.Tree != p.approvedTree(): // what was approved has become something else
			once(&lapsed, a.Person)
		case len(g.By) > 0 && !l.Manifest.Team.Plays(a.Person, g.By):
		case author && !g.SelfApproval:
			once(&own, a.Person)
		default:
			once(&yes, a.Person)
		}
	}
	need := max(g.Approvals, 1)
	r.Said = "approved by " + listAnd(yes)
	if left := need - len(yes); left > 0 {
		r.Said = "nobody has approved it"
		if len(yes) > 0 {
			r.Said = "approved by " + listAnd(yes) + ", which is not enough"
		}
		if len(own) > 0 {
			r.Said += " (" + listAnd(own) + " did, and wrote some of it)"
		}
		if len(lapsed) > 0 {
			r.Said += " (what " + listAnd(lapsed) + " approved has become something else)"
		}
		who := "somebody"
		if len(g.By) > 0 {
			who = listAnd(g.By)
		}
		r.Do = fmt.Sprintf("It needs %d more of %s: oaken approve %s%s.", left, who, p.To.Name, fromFlag(l, p))
	}
	return nil
}

// fromFlag names where a promotion comes from, where that could be another environment.
func fromFlag(l *landscape.Landscape, p *Promotion) string {
	if len(l.Into(p.To.Name)) < 2 {
		return ""
	}
	return " --from " + p.From.Name
}

// unreviewed lists the commits that no merged review brought.
func (m *Mover) unreviewed(ctx context.Context, commits []ledger.Commit) ([]ledger.Commit, error) {
	c := m.Project.Chest
	reviews, err := c.Reviews(ctx)
	if err != nil {
		return nil, err
	}
	var out []ledger.Commit
	err = c.View(ctx, func(tx ledger.Records) error {
		brought := map[ledger.ID]bool{}
		for _, r := range reviews {
			if r.State != ledger.ReviewMerged {
				continue
			}
			outcome, err := tx.Commit(r.Outcome)
			if err != nil || len(outcome.Parents) == 0 {
				return err
			}
			first, err := tx.Commit(outcome.Parents[0])
			if err != nil {
				return err
			}
			after, err1 := tx.Extent(outcome)
			before, err2 := tx.Extent(first)
			if err := errors.Join(err1, err2); err != nil {
				return err
			}
			for _, c := range commits {
				if after.Holds(c) && !before.Holds(c) {
					brought[c.ID] = true
				}
			}
		}
		for _, c := range commits {
			if !brought[c.ID] {
				out = append(out, c)
			}
		}
		return nil
	})
	return out, err
}

// runGates runs the commands among the gates, in a folder with what the target is to hold.
func (m *Mover) runGates(ctx context.Context, l *landscape.Landscape, p *Promotion, told func(gate string)) error {
	if !slices.ContainsFunc(p.Gates, func(g GateResult) bool { return g.Verdict == ToBeRun }) {
		return nil
	}
	dir, done, err := m.gateFolder(ctx, p.state(m, "what moves"))
	if err != nil {
		return err
	}
	defer done()
	for i := range p.Gates {
		r := &p.Gates[i]
		if r.Verdict != ToBeRun {
			continue
		}
		if told != nil {
			told(r.Name)
		}
		g, _ := l.Manifest.Pipeline.Gate(r.Name)
		in := dir
		if len(g.Files) > 0 {
			judged, done, err := m.withJudge(ctx, p, g)
			if err != nil {
				return err
			}
			defer done()
			in = judged
		}
		began := time.Now()
		output, failed := check.RunAmong(ctx, m.variables(), g.Command, g.Time(), in)
		r.Output, r.Took, r.Verdict, r.Said = output, time.Since(began).Milliseconds(), Open, "passed"
		if failed != nil {
			r.Verdict, r.Do = Shut, "Mend what it found, and promote again."
			r.Said = failed.Error()
			if last := check.LastLine(output); last != "" {
				r.Said += ": " + last
			}
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// gateFolder lays a state out in a folder for a gate's command; done removes it.
func (m *Mover) gateFolder(ctx context.Context, s state.State) (dir string, done func(), err error) {
	if dir, err = os.MkdirTemp("", "oaken-gate-*"); err != nil {
		return "", nil, err
	}
	done = func() { _ = os.RemoveAll(dir) }
	if err := m.Project.LayOut(ctx, s, dir); err != nil {
		done()
		return "", nil, err
	}
	return dir, done, nil
}

// withJudge is gateFolder of what moves, with the gate's own files as the first branch has
// them.
func (m *Mover) withJudge(ctx context.Context, p *Promotion, g manifest.Gate) (string, func(), error) {
	tip, err := m.tipOf(ctx, chest.FirstBranch)
	if err != nil {
		return "", nil, err
	}
	tree, err := m.Project.TreeTaking(ctx, p.tree, tip.Tree, g.Files)
	if err != nil {
		return "", nil, err
	}
	return m.gateFolder(ctx, m.Project.TreeState(tree, "what moves"))
}

// state is what the target is to hold, with everything else of the project.
func (p *Promotion) state(m *Mover, name string) state.State {
	return m.Project.TreeState(p.tree, name)
}
