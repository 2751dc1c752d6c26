package pipeline

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// WithdrawOptions are the choices of a withdrawal.
type WithdrawOptions struct {
	// Item is the work item that is taken out.
	Item string
	// WithDependents takes out what stands on it, too.
	WithDependents bool
}

// Withdrawal takes the work for one item out of an environment, and leaves the rest.
type Withdrawal struct {
	Deployment
	Item string
	// Takes lists the work that goes, the oldest first; Dependents what of the rest stands on
	// it.
	Takes      []ledger.Commit
	Dependents []Need

	asked  WithdrawOptions
	onto   ledger.Commit
	drafts []chest.Draft // what comes before
	draft  chest.Draft
	held   func()
}

// Close lets go of the environment and of what was stored.
func (x *Withdrawal) Close() error {
	if x.held != nil {
		x.held()
	}
	if x.driver == nil {
		if x.release != nil {
			x.release()
		}
		return nil
	}
	return x.Deployment.Close()
}

// PrepareWithdrawal computes what takes the work for an item out of an environment: a commit
// on its branch that takes it back, planned like a deployment. It is refused where others
// take work from that branch, and where other work stands on the item's, unless that goes
// along. Close it.
func (m *Mover) PrepareWithdrawal(ctx context.Context, name string, o WithdrawOptions) (*Withdrawal, error) {
	if o.Item == "" {
		return nil, fault.New(fault.Usage, "Name it.", "A withdrawal takes out the work for one item.")
	}
	l := m.rules(ctx)
	env, err := m.environment(l, name)
	if err != nil {
		return nil, err
	}
	branch := l.Manifest.BranchOf(env)
	if branch == "" || takesFrom(l, branch, env) {
		return nil, fault.New(fault.Refused,
			"Undo the work on the branch, with oaken revert, and promote that; or give "+name+" a branch of its own: branch = \""+name+
				"\" in oaken.toml.",
			"%s has no branch of its own, so what is taken out of it would go from others too.", name)
	}
	x := &Withdrawal{Item: o.Item, asked: o}
	if x.release, err = m.Project.Chest.Reserve(ctx, name); err != nil {
		return nil, err
	}
	if x.held, err = m.Project.Chest.Hold(ctx); err == nil {
		err = m.planWithdrawal(ctx, env, branch, o, x)
	}
	if err != nil {
		return nil, errors.Join(err, x.Close())
	}
	return x, nil
}

func (m *Mover) planWithdrawal(ctx context.Context, env manifest.Environment, branch string, o WithdrawOptions, x *Withdrawal) error {
	r, known, err := m.record(ctx, env)
	if err != nil {
		return err
	}
	if !known {
		return fault.New(fault.Refused, "Deploy or promote something to it first.", "Nothing is known of what %s holds.", env.Name)
	}
	if x.onto, err = m.tipOf(ctx, branch); err != nil {
		return err
	}
	if x.onto.Depth == 0 {
		x.onto = r.Commit
	}
	if err := m.chooseWithdrawn(ctx, env, branch, r.Commit, o, x); err != nil {
		return err
	}
	tree := r.Commit.Tree
	for _, c := range slices.Backward(x.Takes) {
		b, err := m.Project.BlendBack(ctx, tree, c)
		if err != nil {
			return err
		}
		if len(b.Merged.Conflicts) > 0 {
			return fault.New(fault.Conflict, "Take that out first, or undo the work on a branch where you can settle it.",
				"%s can't be taken out alone: other work has changed %s since.", label(c), b.Merged.Conflicts[0].Address)
		}
		tree = b.Tree
	}
	what := env.Name + " without " + o.Item
	d, err := m.prepare(ctx, env.Name, m.Project.TreeState(tree, what), what, false, nil,
		works{of: []ledger.Commit{r.Commit}, without: x.Takes})
	if err != nil {
		return err
	}
	d.release, x.release = x.release, nil
	x.Deployment = *d
	x.draft = chest.Draft{Branch: branch, Tip: x.onto.ID, Tree: tree, Author: m.Project.Person, Workspace: m.Project.Name,
		Message: "Withdrawn from " + env.Name + ": " + o.Item, Item: ""}
	beside, err := m.lacks(ctx, x.onto, r.Commit)
	if err != nil {
		return errors.Join(err, d.driver.Close())
	}
	if len(beside) > 0 { // what was captured there and is not in the branch yet comes first
		x.drafts = append(x.drafts, chest.Draft{Branch: branch, Tip: x.onto.ID, Merged: r.Commit.ID, Tree: r.Commit.Tree,
			Author: m.Project.Person, Workspace: m.Project.Name, Time: m.Now(), Message: "What " + env.Name + " holds"})
	}
	for _, c := range x.Takes {
		x.draft.Takes = append(x.draft.Takes, c.ID)
	}
	return m.overDrift(ctx, &x.Deployment)
}

// chooseWithdrawn finds the work that goes, and what stands on it.
func (m *Mover) chooseWithdrawn(ctx context.Context, env manifest.Environment, branch string, standing ledger.Commit, o WithdrawOptions,
	x *Withdrawal) error {
	var all []ledger.Commit
	err := arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) (err error) {
		waiting, err := r.Missing(standing, x.onto)
		if err == nil && len(waiting) > 0 {
			err = fault.New(fault.Refused, "Promote that first, or take it back from the branch.",
				"Branch %s has work that %s has not yet: %s.", branch, env.Name, labels(waiting, 3))
		}
		if err == nil {
			all, err = r.Missing(ledger.Commit{}, standing)
		}
		return err
	})
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Item == o.Item {
			x.Takes = append(x.Takes, c)
		}
	}
	if len(x.Takes) == 0 {
		return fault.New(fault.Refused, "oaken deployments "+fault.Word(env.Name)+" --by-item lists the items that it has.",
			"%s has no work for %s.", env.Name, o.Item)
	}
	if x.Dependents, err = m.dependents(ctx, x.Takes, all); err != nil || len(x.Dependents) == 0 {
		return err
	}
	if !o.WithDependents {
		n := x.Dependents[0]
		more := ""
		if len(x.Dependents) > 1 {
			more = fmt.Sprintf(" (and %d more)", len(x.Dependents)-1)
		}
		return fault.New(fault.Refused, "Take that out, too, with --with-dependents.", "%s %s %s, which %s brings%s.", label(n.Commit),
			n.How, n.What, label(n.For), more)
	}
	for _, n := range x.Dependents {
		x.Takes = append(x.Takes, n.Commit)
	}
	slices.SortFunc(x.Takes, ledger.Older)
	return nil
}

// dependents finds the work of a list that stands on chosen work, and in turn what stands
// on that. In a Need, Commit is what stands on the other, For what it stands on.
func (m *Mover) dependents(ctx context.Context, chosen, all []ledger.Commit) (out []Need, err error) {
	taken := map[ledger.ID]bool{}
	for _, c := range chosen {
		taken[c.ID] = true
	}
	deeds := map[ledger.ID]*deedOf{}
	read := func(c ledger.Commit) *deedOf {
		if deeds[c.ID] == nil && err == nil {
			deeds[c.ID], err = m.readDeed(ctx, c)
		}
		return deeds[c.ID]
	}
	for waiting := slices.Clone(chosen); len(waiting) > 0; waiting = waiting[1:] {
		gives := read(waiting[0])
		for _, other := range all {
			if taken[other.ID] || ledger.Older(other, waiting[0]) < 0 {
				continue
			}
			wants := read(other)
			if err != nil {
				return nil, err
			}
			if what, how, ok := wants.needs(gives); ok {
				taken[other.ID] = true
				out = append(out, Need{Commit: other, For: waiting[0], What: what, How: how})
				waiting = append(waiting, other)
			}
		}
	}
	slices.SortFunc(out, func(a, b Need) int { return ledger.Older(a.Commit, b.Commit) })
	return out, err
}

// Withdraw carries a prepared withdrawal out, and records it.
func (m *Mover) Withdraw(ctx context.Context, x *Withdrawal, o DeployOptions) (err error) {
	if m.elsewhere(ctx, x.Environment.Name) {
		return m.withdrawThere(ctx, x, o)
	}
	defer func() { m.attempted(ctx, x.Environment.Name, ActionWithdraw, err) }()
	began := m.Now()
	var list []error
	if err := m.mayControl(m.rules(ctx), x.Environment, "take work out of it"); err != nil {
		list = append(list, err)
	}
	if err := x.overUnknown(o); err != nil {
		list = append(list, err)
	}
	if err := x.losing(o); err != nil {
		list = append(list, err)
	}
	if err := together(list); err != nil {
		return err
	}
	kept, err := m.carryOut(ctx, &x.Deployment, o)
	if err != nil {
		return err
	}
	x.draft.Time = m.Now()
	if o.Reason != "" {
		x.draft.Message += "\n\n" + o.Reason
	}
	c := chest.Conclusion{Drafts: append(x.drafts, x.draft)}
	for _, work := range x.Takes {
		c.Absences = append(c.Absences, ledger.Absence{Environment: x.Environment.Name, Work: work.ID, Person: m.Project.Person,
			Time: x.draft.Time, Reason: o.Reason, Kept: kept})
	}
	if known, err := m.Project.Chest.Branch(ctx, x.draft.Branch); err != nil || known.Name == "" {
		c.NewBranch = ledger.Branch{Name: x.draft.Branch, Tip: x.onto.ID, Origin: label(x.onto), Author: m.Project.Person, Time: began}
	}
	if x.Commit, err = m.conclude(ctx, &x.Deployment, kept, account{action: ActionWithdraw, lane: x.Environment.Lane, source: x.onto.ID,
		reason: o.Reason, began: began}, c, ActionWithdraw+" "+x.Item); err != nil {
		return err
	}
	_ = m.Project.Chest.Gather(ctx)
	return m.Desk.Follow(ctx, x.draft.Branch, x.onto)
}
