package pipeline

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/state"
)

// PromoteOptions are the choices of a promotion.
type PromoteOptions struct {
	// Lane says for which lane it is done, where that is not plain.
	Lane string
	// Item, Items and Paths choose some of the work; none of them means all of it.
	Item  string
	Items []string
	Paths []string
	// WithNeeded takes along what the chosen work depends on.
	WithNeeded bool
	// Override names gates that are passed though they are shut; Reason says why.
	Override []string
	Reason   string
	// Again consents to bringing work again that was taken back from To.
	Again bool
	// Expect is the commit that FROM must hold; zero for any.
	Expect ledger.ID
	// AllowLoss consents to the loss of data, which is kept first.
	AllowLoss bool
	// Done, when set, is told after each step; Gate before each command.
	Done func(step int)    `json:"-"`
	Gate func(name string) `json:"-"`

	tried  []content.Digest // see Promotion
	follow *PlanFile        // the plan that is followed; nil for none
}

// some says that the work is chosen.
func (o PromoteOptions) some() bool { return o.Item != "" || len(o.Items)+len(o.Paths) > 0 }

// Promotion is a move of work to the next environment: what it would do, or has done.
type Promotion struct {
	From, To manifest.Environment
	Move     manifest.Move
	// Lane is the one that it is done for: that of From, of To, or of who does it; empty
	// where that is not plain. Lanes lists those whose work moves.
	Lane  string
	Lanes []string
	// Source is what From holds; Standing what was deployed to To last, nil for nothing.
	Source   ledger.Commit
	Standing *ledger.Commit
	// Branch is that of To; empty when it has none.
	Branch string
	// Moving lists the work that To gets, the oldest first; Chosen what was asked for, and
	// Needs what that depends on. Waiting is what of Moving lies on the branch of To
	// already.
	Moving, Chosen, Waiting []ledger.Commit
	Needs                   []Need
	// Ahead lists work that To has and From has not; Lost what of it To would lose.
	Ahead, Lost []ledger.Commit
	// Firsts gives, of those that are picks, the commit that did the work first.
	Firsts map[ledger.ID]ledger.Commit
	// Differences say what becomes different in To, Drift what somebody changed there.
	Differences, Drift []state.Difference
	// Conflicts stand between the work and the branch of To; Settled lists what people chose
	// where there were some.
	Conflicts []element.Conflict
	Settled   []ledger.Chosen
	Gates     []GateResult
	// Deployment is the plan; nil while conflicts or needs stand in its way.
	Deployment *Deployment
	// Commit is what To holds in the end, once it is done; Shipped are the planned releases that became releases by it.
	Commit  ledger.Commit
	Shipped []string

	tree    content.Digest   // what To is to hold
	tried   []content.Digest // what it was to hold before others published to its branch
	onto    ledger.Commit
	drafts  []chest.Draft
	owes    []owed.Work
	open    []ledger.Commit // the work that the branch of To has not
	fresh   bool            // To holds nothing, and its branch is to be made
	shared  bool            // both ends take their work from one branch
	beside  bool            // what To gets no branch has
	again   bool            // work that was taken back may come again
	begins  ledger.Commit   // where a branch that is to be made begins; zero when it is there
	choices *choices
	plan    string          // the sum of the plan that is followed; empty for none
	take    []ledger.Commit // what is picked
	release func()
}

// Close lets go of the environment and of what was stored for the promotion.
func (p *Promotion) Close() error {
	p.letGo()
	if p.Deployment == nil {
		return nil
	}
	return p.Deployment.Close()
}

// letGo lets others at the environment.
func (p *Promotion) letGo() {
	if p.release != nil {
		p.release()
		p.release = nil
	}
}

// Next gives the environment that work goes on to from one, when there is one alone.
func (m *Mover) Next(ctx context.Context, from string) (string, error) {
	if _, err := m.declaration(ctx, from); err != nil {
		return "", err
	}
	moves := m.rules(ctx).From(from)
	switch len(moves) {
	case 1:
		return moves[0].To, nil
	case 0:
		return "", fault.New(fault.Usage,
			"Name it: oaken promote "+fault.Word(from)+" TO. Moves are declared in oaken.toml, under [[pipeline.move]].",
			"No move leads on from %s.", from)
	}
	return "", fault.New(fault.Usage, "Name one: oaken promote "+fault.Word(from)+" TO.", "Several moves lead on from %s: to %s.", from,
		listAnd(names(moves, end)))
}

// PreparePromotion computes what a promotion would do, and how its gates stand; nothing is
// changed. Until it is closed, nobody else deploys to the environment.
func (m *Mover) PreparePromotion(ctx context.Context, from, to string, o PromoteOptions) (*Promotion, error) {
	l := m.rules(ctx)
	p, err := m.along(ctx, l, from, to, o.Lane)
	if err != nil {
		return nil, err
	}
	if o.Expect != (ledger.ID{}) && p.Source.ID != o.Expect {
		return nil, fault.New(fault.Refused, "Look at it again, and plan the promotion anew.",
			"%s holds %s now, and not what was to be promoted.", from, label(p.Source))
	}
	given, err := m.Project.Chest.Reserve(ctx, to)
	if err != nil {
		return nil, err
	}
	stored, err := m.Project.Chest.Hold(ctx)
	if err != nil {
		given()
		return nil, err
	}
	p.tried = o.tried
	if o.follow != nil {
		p.plan = o.follow.Sum()
	}
	p.release = func() { stored(); given() }
	if err := m.work(ctx, l, p, o); err != nil {
		return nil, errors.Join(err, p.Close())
	}
	return p, nil
}

// along gives a promotion as far as its ends and its lane go.
func (m *Mover) along(ctx context.Context, l *landscape.Landscape, from, to, lane string) (*Promotion, error) {
	p, err := m.ends(ctx, l, from, to)
	if err != nil {
		return nil, err
	}
	return p, m.chooseLane(l, p, lane)
}

// ends finds the two environments of a promotion, and what they hold.
func (m *Mover) ends(ctx context.Context, l *landscape.Landscape, from, to string) (*Promotion, error) {
	p := &Promotion{}
	var err error
	if p.From, err = m.environment(l, from); err != nil {
		return nil, err
	}
	if p.To, err = m.environment(l, to); err != nil {
		return nil, err
	}
	var ok bool
	if p.Move, ok = l.Move(from, to); !ok {
		next := names(l.From(from), end)
		hint := "Moves are declared in oaken.toml, under [[pipeline.move]]; oaken pipeline show draws them."
		if len(next) > 0 {
			hint = "From " + from + " work goes on to " + listAnd(next) + ". " + hint
		}
		return nil, fault.New(fault.Refused, hint, "No move leads from %s to %s.", from, to)
	}
	if p.Source, err = m.Has(ctx, from); err != nil {
		return nil, err
	}
	p.Branch = l.Manifest.BranchOf(p.To)
	return p, nil
}

// chooseLane finds the lane that a promotion is done for.
func (m *Mover) chooseLane(l *landscape.Landscape, p *Promotion, named string) error {
	if _, ok := l.Manifest.Pipeline.Lane(named); named != "" && !ok {
		return fault.New(fault.Usage, "Lanes are declared in oaken.toml, under [[pipeline.lane]].", "There is no lane %s.", named)
	}
	p.Lane = named
	for _, lane := range []string{p.From.Lane, p.To.Lane} {
		if p.Lane == "" {
			p.Lane = lane
		}
	}
	if own := l.LanesOf(m.Project.Person); p.Lane == "" && len(own) == 1 {
		p.Lane = own[0]
	}
	return nil
}

// work computes everything of a promotion but its ends.
func (m *Mover) work(ctx context.Context, l *landscape.Landscape, p *Promotion, o PromoteOptions) error {
	if err := m.compareHistories(ctx, l, p); err != nil {
		return err
	}
	if err := m.takeIn(ctx, p, o); err != nil || len(p.Conflicts) > 0 || len(p.Needs) > 0 && !o.WithNeeded {
		return err
	}
	again, lost, err := m.comesAgain(ctx, p.To, p.Moving)
	if err != nil {
		return err
	}
	if p.Deployment, err = m.prepare(ctx, p.To.Name, p.state(m, p.label()), p.label(), false, lost, p.works()); err != nil {
		return err
	}
	p.Deployment.Again, p.again = again, o.Again
	if p.Differences, err = m.whatChanges(ctx, p); err != nil {
		return err
	}
	for _, c := range p.Moving {
		if lane := l.LaneOf(c.Branch); lane != "" && !slices.Contains(p.Lanes, lane) {
			p.Lanes = append(p.Lanes, lane)
		}
	}
	if err := m.ownGates(ctx, l, p); err != nil {
		return err
	}
	if err := m.declaredGates(ctx, l, p); err != nil {
		return err
	}
	if len(o.Override) > 0 && m.mayOverride(l, o.Reason) == nil { // a dry run shows it so
		p.override(o.Override)
	}
	return nil
}

// takeIn brings the work to what the branch of To has, as people settled what is in conflict.
func (m *Mover) takeIn(ctx context.Context, p *Promotion, o PromoteOptions) (err error) {
	if p.choices, err = m.choicesFor(ctx, p); err != nil {
		return err
	}
	if o.some() {
		return m.chooseWork(ctx, p, o)
	}
	return m.allWork(ctx, p)
}

// works is the work that To has afterwards.
func (p *Promotion) works() works {
	out := works{of: []ledger.Commit{p.Source}}
	if p.onto.Depth > 0 {
		out.of = append(out.of, p.onto)
	}
	return out
}

// label writes what is promoted for people.
func (p *Promotion) label() string {
	if len(p.drafts) == 0 {
		return label(p.target())
	}
	return label(p.Source) + " on " + p.Branch
}

// target is the commit that To gets, when that is there already.
func (p *Promotion) target() ledger.Commit {
	if p.tree == p.onto.Tree && p.onto.Depth > 0 {
		return p.onto
	}
	return p.Source
}

// Untested lists the folders in which something becomes different in To, and that From does
// not hold: what comes there nobody has tried in From.
func (p *Promotion) Untested() (out []string) {
	for _, folder := range p.To.Folders() {
		if slices.Contains(p.From.Folders(), folder) {
			continue
		}
		if slices.ContainsFunc(p.Differences, func(d state.Difference) bool { return state.Under([]string{folder}, d.Path) }) {
			out = append(out, folder)
		}
	}
	return out
}

// Nothing reports that there is nothing to promote: To has all that From has.
func (p *Promotion) Nothing() bool {
	return p.Standing != nil && p.Deployment != nil && p.Deployment.Unfinished.IsZero() &&
		len(p.Moving)+len(p.Conflicts)+len(p.Needs)+len(p.Lost)+len(p.Drift) == 0 && len(p.Deployment.Plan.Steps) == 0
}

// inTheWay says what keeps a promotion from being carried out; nil for nothing.
func (p *Promotion) inTheWay() error {
	if len(p.Conflicts) > 0 {
		what := p.Conflicts[0].Address.String()
		if n := len(p.Conflicts) - 1; n > 0 {
			what += fmt.Sprintf(" and %d more", n)
		}
		return fault.New(fault.Conflict,
			"Settle it in the promotion: oaken promote "+fault.Word(p.From.Name)+" "+fault.Word(p.To.Name)+" --settle. Nothing of it "+
				"goes on before its gates are open.", "What %s has does not merge with %s, at %s.", p.From.Name, p.with(), what)
	}
	return nil
}

// InTheWay says what keeps a promotion from being carried out, but for gates; nil for nothing.
func (p *Promotion) InTheWay(o PromoteOptions) error {
	if err := p.inTheWay(); err != nil {
		return err
	}
	if len(p.Needs) > 0 && !o.WithNeeded {
		return missingNeeds(p)
	}
	return nil
}

// with names for people what the work is merged with.
func (p *Promotion) with() string {
	if p.beside {
		return "what " + p.To.Name + " has"
	}
	return p.Branch
}

// shut lists the gates that are shut and not overridden.
func (p *Promotion) shut() []GateResult {
	var out []GateResult
	for _, g := range p.Gates {
		if g.Verdict == Shut {
			out = append(out, g)
		}
	}
	return out
}

// override passes gates that are shut.
func (m *Mover) override(l *landscape.Landscape, p *Promotion, o PromoteOptions) error {
	if len(o.Override) == 0 {
		return nil
	}
	if err := m.mayOverride(l, o.Reason); err != nil {
		return err
	}
	for _, name := range o.Override {
		if !slices.ContainsFunc(p.Gates, func(g GateResult) bool { return g.Name == name }) {
			return fault.New(fault.Usage, "A dry run lists the gates of the move: oaken promote "+fault.Word(p.From.Name)+" "+
				fault.Word(p.To.Name)+" --dry-run.", "The move from %s to %s has no gate %s.", p.From.Name, p.To.Name, name)
		}
	}
	p.override(o.Override)
	return nil
}

// override passes the gates of some names that are not open.
func (p *Promotion) override(names []string) {
	for i := range p.Gates {
		if slices.Contains(names, p.Gates[i].Name) && p.Gates[i].Verdict != Open {
			p.Gates[i].Verdict = Overridden
		}
	}
}

// mostTries bounds how often a promotion begins anew because others have published to the
// branch meanwhile.
const mostTries = 5

// Promote carries a prepared promotion out: it runs the gates' commands, deploys, proves
// by capture, publishes what the branch of To then holds and records it all. When others
// have published to that branch meanwhile it is done again on top of theirs.
func (m *Mover) Promote(ctx context.Context, p *Promotion, o PromoteOptions) (err error) {
	to := p.To.Name
	if m.elsewhere(ctx, to) {
		return m.promoteThere(ctx, p, o)
	}
	defer func() { m.attempted(ctx, to, ActionPromote, err) }()
	l := m.rules(ctx)
	began := m.Now()
	if err := m.Noted(ctx, p.From.Name, p.Source); err != nil {
		return err
	}
	tries := mostTries
	if o.follow != nil { // what others published is not in it
		tries = 1
	}
	for try := 1; ; try++ {
		if p.Nothing() && !o.some() && o.follow == nil {
			return nil
		}
		if err := m.pass(ctx, l, p, o); err != nil {
			return err
		}
		kept, err := m.carryOut(ctx, p.Deployment, DeployOptions{AllowLoss: o.AllowLoss, Done: o.Done})
		if err != nil {
			return err
		}
		a := account{action: ActionPromote, origin: p.From.Name, lane: p.Lane, source: p.Source.ID, began: began, gates: p.Gates,
			moved: p.Moving, plan: o.follow}
		if slices.ContainsFunc(p.Gates, func(g GateResult) bool { return g.Verdict == Overridden }) {
			a.reason = o.Reason
		}
		x := chest.Conclusion{Drafts: p.drafts}
		if len(p.Settled) > 0 || !o.some() {
			x.EndPending = [2]string{p.From.Name, p.To.Name}
		}
		if p.begins.Depth > 0 {
			x.NewBranch = ledger.Branch{Name: p.Branch, Tip: p.begins.ID, Origin: label(p.begins), Author: m.Project.Person, Time: m.Now()}
		}
		p.Deployment.Commit = p.target()
		if p.Commit, err = m.conclude(ctx, p.Deployment, kept, a, x, "env:"+p.From.Name); err == nil {
			_ = m.Project.Chest.Gather(ctx)
			m.tellOwners(ctx, p)
			if err := m.Desk.Follow(ctx, p.Branch, p.onto); err != nil {
				return err
			}
			p.letGo()
			if err := m.afterwards(ctx, p.Deployment, o.Gate); err != nil {
				return err
			}
			p.Shipped, err = m.shipped(ctx, p.To, p.Commit)
			return err
		}
		if !errors.Is(err, ledger.ErrMoved) || try == tries {
			return err
		}
		if err := p.Close(); err != nil {
			return err
		}
		o.tried = append(o.tried, p.tree)
		again, err := m.PreparePromotion(ctx, p.From.Name, p.To.Name, o)
		if err != nil {
			p.release, p.Deployment = nil, nil
			return err
		}
		*p = *again
	}
}

// movable refuses work that can't move: it is in conflict, it lacks something, there is none, or it may not be published.
func (m *Mover) movable(ctx context.Context, p *Promotion, o PromoteOptions) error {
	if err := p.inTheWay(); err != nil {
		return err
	}
	if len(p.Needs) > 0 && !o.WithNeeded {
		return missingNeeds(p)
	}
	if o.some() && len(p.Chosen) == 0 {
		return fault.New(fault.Refused, "A promotion without --item and paths shows all that would move.",
			"%s has no such work that %s has not.", p.From.Name, p.To.Name)
	}
	return m.Project.Chest.Allowed(ctx, p.drafts...)
}

// pass refuses what stands in the way of a promotion, or is shut.
func (m *Mover) pass(ctx context.Context, l *landscape.Landscape, p *Promotion, o PromoteOptions) error {
	if err := m.movable(ctx, p, o); err != nil {
		return err
	}
	if err := m.holdsTo(ctx, p, o); err != nil {
		return err
	}
	if err := m.override(l, p, o); err != nil {
		return err
	}
	if shut := p.shut(); len(shut) > 0 {
		return shutError(p, shut)
	}
	if err := m.mayRun(ctx, m.runs(ctx, l, p)); err != nil {
		return err
	}
	if err := m.runGates(ctx, l, p, o.Gate); err != nil {
		return err
	}
	if shut := p.shut(); len(shut) > 0 {
		return shutError(p, shut)
	}
	return nil
}

func shutError(p *Promotion, shut []GateResult) error {
	said := make([]string, len(shut))
	for i, g := range shut {
		said[i] = g.Name + " (" + g.Said + ")"
	}
	what := "gate"
	if len(shut) > 1 {
		what = "gates"
	}
	return fault.New(fault.Refused, shut[0].Do, "%s is not open for this work: %s %s.", p.To.Name, what, strings.Join(said, "; "))
}

// tellOwners leaves a notice for those whose work has reached live.
func (m *Mover) tellOwners(ctx context.Context, p *Promotion) {
	if p.To.Tier != manifest.Live {
		return
	}
	theirs := map[string][]ledger.Commit{}
	for _, c := range p.Moving {
		if c.Workspace != "" && c.Workspace != m.Project.Name {
			theirs[c.Workspace] = append(theirs[c.Workspace], c)
		}
	}
	for workspace, list := range theirs {
		_ = m.Project.Chest.Notify(ctx,
			ledger.Notice{Workspace: workspace, Time: m.Now(), Text: fmt.Sprintf("%s promoted your %s to %s.", m.Project.Person,
				labels(list, 3), p.To.Name)})
	}
}
