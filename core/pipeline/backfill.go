package pipeline

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/project"
)

// Owed gives what is owed to every environment of the pipeline.
func (m *Mover) Owed(ctx context.Context) (out []owed.Debt, err error) {
	out, _, err = m.OwedOf(ctx)
	return slices.DeleteFunc(out, func(d owed.Debt) bool { return len(d.Works) == 0 }), err
}

// OwedOf gives besides what was taken back and is not owed, and the environments of which
// nothing is known.
func (m *Mover) OwedOf(ctx context.Context) (out []owed.Debt, empty []string, err error) {
	err = owed.View(ctx, m.Project.Chest, m.rules(ctx), func(b *owed.Book) error {
		out, err = b.All()
		empty = b.Empty()
		return err
	})
	return out, empty, err
}

// BackfillOptions are the choices of a backfill.
type BackfillOptions struct {
	// From narrows what is brought back to what one environment has; empty for all later
	// ones.
	From string
	// MergeOnly leaves the environments as they are.
	MergeOnly bool
	AllowLoss bool
	// Told, when set, is told what is being done.
	Told func(what string)
}

// Backfill is what brings work back to a lane, or to one environment.
type Backfill struct {
	// Lane is what was asked for, Branches what work is merged into.
	Lane     string
	Branches []BackfillBranch
	Stages   []BackfillStage
	// From is where the work is brought from alone; empty for all later environments.
	From string
}

// BackfillBranch is a branch that work is brought back to.
type BackfillBranch struct {
	Name string
	// Brings lists the work that the branch has not, Sources what is merged into it.
	Brings  []owed.Work
	Sources []BackfillSource
	// Conflicts stand in the way of one of the merges.
	Conflicts []element.Conflict
	// Merged lists the commits that were made.
	Merged []ledger.Commit
}

// BackfillSource is what an environment holds that is merged.
type BackfillSource struct {
	Environment string
	Commit      ledger.Commit
}

// BackfillStage is an environment that the work is deployed to.
type BackfillStage struct {
	Environment string
	Brings      []owed.Work
	// Left says why it is not deployed to; empty when it is.
	Left string
	// Steps counts what was done; Commit is what it holds then.
	Steps  int
	Commit ledger.Commit
	Done   bool
}

// PrepareBackfill tells what a backfill of a lane, or of one environment, would do. What
// it says of conflicts is of the first merge into each branch.
func (m *Mover) PrepareBackfill(ctx context.Context, name string, o BackfillOptions) (*Backfill, error) {
	l := m.rules(ctx)
	var members []manifest.Environment
	if _, ok := l.Manifest.Pipeline.Lane(name); ok {
		members = l.Members(name)
	} else if e, err := l.Manifest.Environment(name); err == nil {
		members = []manifest.Environment{e}
	} else {
		return nil, fault.New(fault.Usage, "oaken pipeline show draws them; oaken owed lists what is missing where.",
			"There is no lane %s, and no environment of that name.", name)
	}
	if o.From != "" {
		if _, err := l.Manifest.Environment(o.From); err != nil {
			return nil, err
		}
	}
	b := &Backfill{Lane: name, From: o.From}
	err := owed.View(ctx, m.Project.Chest, l, func(book *owed.Book) error {
		for _, e := range members {
			if err := m.owedTo(book, b, e, o.From); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return b, m.foresee(ctx, b)
}

// owedTo notes what one environment is owed.
func (m *Mover) owedTo(book *owed.Book, b *Backfill, e manifest.Environment, only string) error {
	d, err := book.To(e)
	if err != nil {
		return err
	}
	works := d.Works
	if only != "" {
		works = book.HeldBy(works, only)
	}
	if len(works) == 0 {
		return nil
	}
	b.Stages = append(b.Stages, BackfillStage{Environment: e.Name, Brings: works})
	branch := book.Landscape.Manifest.BranchOf(e)
	if branch == "" || slices.ContainsFunc(b.Branches, func(x BackfillBranch) bool { return x.Name == branch }) {
		return nil
	}
	x := BackfillBranch{Name: branch}
	later := book.Landscape.Later(e.Name)
	slices.SortStableFunc(later, func(a, c manifest.Environment) int { return c.Tier.Rank() - a.Tier.Rank() }) // live first
	tip := book.Tip(branch)
	seen := map[ledger.ID]bool{}
	for _, from := range later {
		standing, ok := book.Standing[from.Name]
		if !ok || only != "" && from.Name != only {
			continue
		}
		missing, err := book.Arrived.Missing(tip, standing)
		if err != nil {
			return err
		}
		news := false
		for _, c := range missing {
			news = news || !seen[book.Arrived.Root(c.ID)]
			seen[book.Arrived.Root(c.ID)] = true
		}
		if news {
			x.Sources = append(x.Sources, BackfillSource{from.Name, standing})
		}
	}
	for _, work := range works {
		if !work.Merged {
			x.Brings = append(x.Brings, work)
		}
	}
	b.Branches = append(b.Branches, x)
	return nil
}

// foresee finds the conflicts of the first merge into each branch.
func (m *Mover) foresee(ctx context.Context, b *Backfill) error {
	for i := range b.Branches {
		x := &b.Branches[i]
		if len(x.Sources) == 0 {
			continue
		}
		tip, err := m.tipOf(ctx, x.Name)
		if err != nil {
			return err
		}
		if tip.Depth == 0 { // it will begin with what comes back
			continue
		}
		merged, err := m.Project.ForeseeInto(ctx, tip, x.Sources[0].Commit)
		if err != nil {
			return err
		}
		x.Conflicts = merged.Conflicts
	}
	return nil
}

// tipOf gives the newest commit of a branch; the zero commit when there is none.
func (m *Mover) tipOf(ctx context.Context, name string) (ledger.Commit, error) {
	all, err := m.Project.Chest.Branches(ctx)
	for _, br := range all {
		if br.Name == name && br.Tip != (ledger.ID{}) {
			return m.Project.Chest.Commit(ctx, br.Tip)
		}
	}
	return ledger.Commit{}, err
}

// Backfill merges what is owed into the branches, and deploys them to the environments.
// A merge with conflicts is refused with nothing changed by it; an environment that the
// work can't be deployed to yet is left, with the reason.
func (m *Mover) Backfill(ctx context.Context, b *Backfill, o BackfillOptions) error {
	for i := range b.Branches {
		if err := m.bringBack(ctx, &b.Branches[i], o); err != nil {
			return err
		}
	}
	for i := range b.Stages {
		if err := m.backfillStage(ctx, &b.Stages[i], o); err != nil {
			return err
		}
	}
	return nil
}

// bringBack merges what environments hold into a branch, one after the other.
func (m *Mover) bringBack(ctx context.Context, x *BackfillBranch, o BackfillOptions) error {
	for _, s := range x.Sources {
		if o.Told != nil {
			o.Told("merging " + label(s.Commit) + " into " + x.Name)
		}
		tip, err := m.tipOf(ctx, x.Name)
		if err != nil {
			return err
		}
		if tip.Depth == 0 {
			if err := m.Project.Chest.AddBranch(ctx, ledger.Branch{Name: x.Name, Tip: s.Commit.ID, Origin: label(s.Commit),
				Author: m.Project.Person, Time: m.Now()}); err != nil {
				return err
			}
			continue
		}
		c, err := m.Project.MergeInto(ctx,
			project.Into{Branch: x.Name, Onto: tip, Theirs: s.Commit,
				Message: fmt.Sprintf("What %s has comes back to %s", s.Environment, x.Name)})
		switch {
		case fault.CodeOf(err) == fault.Usage: // there is nothing of it left to merge
			continue
		case fault.CodeOf(err) == fault.Conflict:
			return fault.New(fault.Conflict,
				fmt.Sprintf("Run oaken go %s and oaken merge %s, settle it there, and run oaken backfill again.", x.Name, label(s.Commit)),
				"What %s has does not merge into %s: %w", s.Environment, x.Name, err)
		case err != nil:
			return err
		}
		x.Merged = append(x.Merged, c.Commit)
	}
	return nil
}

// backfillStage deploys the branch of an environment to it, when that brings nothing but
// what it is owed.
func (m *Mover) backfillStage(ctx context.Context, s *BackfillStage, o BackfillOptions) error {
	if o.MergeOnly {
		s.Left = "only the branch was to be merged"
		return nil
	}
	env, err := m.environment(m.rules(ctx), s.Environment)
	if err != nil {
		return err
	}
	target, left, err := m.backfillTarget(ctx, env, s)
	if err != nil || left != "" {
		s.Left = left
		return err
	}
	if o.Told != nil {
		o.Told("deploying to " + env.Name)
	}
	if left, err := m.keptFrom(ctx, env); err != nil || left != "" {
		s.Left = left
		return err
	}
	d, err := m.Prepare(ctx, env.Name, target, false)
	if s.Left = notNow(err); err != nil {
		return unless(s.Left, err)
	}
	defer d.Close()
	s.Steps, s.Commit = len(d.Plan.Steps), target
	err = m.deployAs(ctx, d, DeployOptions{AllowLoss: o.AllowLoss, Source: "backfill"},
		account{action: ActionBackfill, lane: env.Lane, source: target.ID})
	s.Left, s.Done = notNow(err), err == nil
	return unless(s.Left, err)
}

// notNow gives what an error says that leaves one environment out and not the others:
// something is refused, or can't be reached. It is empty for other errors, and for none.
func notNow(err error) string {
	if c := fault.CodeOf(err); err != nil && (c == fault.Refused || c == fault.Unreachable) {
		return strings.TrimSuffix(err.Error(), ".")
	}
	return ""
}

// unless gives an error that leaves no environment out alone.
func unless(left string, err error) error {
	if left != "" {
		return nil
	}
	return err
}

// backfillTarget gives the commit that an environment gets; left says why it gets none.
func (m *Mover) backfillTarget(ctx context.Context, env manifest.Environment, s *BackfillStage) (target ledger.Commit,
	left string, err error) {
	l := m.rules(ctx)
	err = owed.View(ctx, m.Project.Chest, l, func(book *owed.Book) error {
		target = book.Tip(l.Manifest.BranchOf(env))
		if target.Depth == 0 {
			left = "it has no branch that work could be merged into"
			return nil
		}
		standing, known := book.Standing[env.Name]
		if !known {
			return nil
		}
		lost, err := book.Arrived.Missing(target, standing)
		if err != nil {
			return err
		}
		if len(lost) > 0 {
			left = fmt.Sprintf("its branch has not %s, which would go from it", labels(lost, 3))
			return nil
		}
		comes, err := book.Arrived.Missing(standing, target)
		if err != nil || len(l.Into(env.Name)) == 0 {
			return err
		}
		for _, c := range comes {
			if !slices.ContainsFunc(s.Brings, func(w owed.Work) bool { return book.Arrived.Root(w.ID) == book.Arrived.Root(c.ID) }) {
				left = fmt.Sprintf("its branch has work that no promotion has brought yet (%s); it comes with the next one", label(c))
				return nil
			}
		}
		return nil
	})
	return target, left, err
}

// keptByRules is what of keptFrom the rules alone tell.
func (m *Mover) keptByRules(ctx context.Context, env manifest.Environment) string {
	l := m.rules(ctx)
	if err := m.mayControl(l, env, "bring work back to it"); err != nil {
		return notNow(err)
	}
	if f, frozen := landscape.Frozen(l.Manifest, env, m.Now().Local()); frozen {
		return "it is frozen" + untilOf(f)
	}
	return ""
}

// BackfillGoes tells, of the environments of a lane, those that the rules keep a backfill from,
// each with the reason.
func (m *Mover) BackfillGoes(ctx context.Context, lane string) map[string]string {
	out := map[string]string{}
	for _, e := range m.rules(ctx).Members(lane) {
		if why := m.keptByRules(ctx, e); why != "" {
			out[e.Name] = why
		}
	}
	return out
}

// keptFrom says what keeps people from deploying to an environment: who controls it, a
// freeze, a booking of another lane, or what somebody changed there by hand.
func (m *Mover) keptFrom(ctx context.Context, env manifest.Environment) (string, error) {
	if ruled := m.keptByRules(ctx, env); ruled != "" {
		return ruled, nil
	}
	if _, deployed, err := m.Project.Chest.LastDeployment(ctx, env.Name); err != nil || !deployed {
		return "", err
	}
	d, err := m.Drift(ctx, env.Name)
	if err != nil {
		return notNow(err), unless(notNow(err), err)
	}
	if len(d.Differences) > 0 {
		return "somebody changed it by hand: oaken capture " + env.Name + " and oaken commit keep that", nil
	}
	p := &Promotion{To: env, Lane: env.Lane}
	var shut string
	err = m.bookingGate(ctx, p, func(_, said, do string) {
		if do != "" {
			shut = said
		}
	})
	return shut, err
}
