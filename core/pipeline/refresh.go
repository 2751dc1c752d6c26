package pipeline

import (
	"context"
	"crypto/rand"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/trust"
)

// ActionRefresh is the word for a deployment that made an environment a copy of another.
const ActionRefresh = "refresh"

// RefreshOptions say what is taken.
type RefreshOptions struct {
	// Tables and Skip choose by patterns the tables whose rows are taken; without any, all are.
	Tables, Skip []string
	// AllowLoss consents to the loss of all that the environment holds, which is kept first.
	AllowLoss bool
	// Told, when set, hears what is being done.
	Told func(what string) `json:"-"`
	// After, when set, hears of each command that must pass afterwards before it runs.
	After func(name string) `json:"-"`
}

// Refreshed is what came of it.
type Refreshed struct {
	From, To manifest.Environment
	// Has is what the environment held from then on, Again what was deployed to it once more; zero for nothing.
	Has, Again ledger.Commit
	// Lacks is work that it had and has no more, because From has other work that it lacked: it waits to be promoted again.
	Lacks []ledger.Commit
	// Masked lists the columns whose values were not taken as they are; Saved the folder in which what was there is kept.
	Masked []string
	Saved  string
	// After is what came of the commands that must pass after what was deployed again; nil for none.
	After *Aftermath
}

// Refresh makes the databases of an environment copies of those of a later one, with columns masked by the rules of the
// project, and deploys the work again that it has and the later one has not. What it held is kept first.
func (m *Mover) Refresh(ctx context.Context, to, from string, o RefreshOptions) (out *Refreshed, err error) {
	if m.elsewhere(ctx, to) || m.elsewhere(ctx, from) {
		return m.refreshThere(ctx, to, from, o)
	}
	defer func() { m.attempted(ctx, to, ActionRefresh, err) }()
	l := m.rules(ctx)
	out = &Refreshed{}
	if out.From, err = m.environment(l, from); err != nil {
		return nil, err
	}
	if out.To, err = m.environment(l, to); err != nil {
		return nil, err
	}
	pairs, err := m.refreshable(l, out, o)
	if err != nil {
		return nil, err
	}
	if out.Has, err = m.Has(ctx, from); err != nil {
		return nil, err
	}
	if err := m.mayRefresh(ctx, out.To, pairs, from); err != nil {
		return nil, err
	}
	release, err := m.Project.Chest.Reserve(ctx, to)
	if err != nil {
		return nil, err
	}
	before, had, err := m.record(ctx, out.To)
	if err == nil {
		err = m.copyAll(ctx, l.Manifest, out, pairs, o)
	}
	release()
	if err != nil {
		return nil, err
	}
	// it is recorded first, so that nothing of what was done before counts as done in the copy; what other targets lack follows
	if err := m.proved(ctx, out.To, out.Has, evidence{ActionRefresh, ActionRefresh + " from " + from, 0}); err != nil {
		return out, err
	}
	if err := m.deployRefreshed(ctx, out, out.Has, o); err != nil {
		return out, err
	}
	if !had {
		return out, nil
	}
	return out, m.again(ctx, out, before.Commit, o)
}

// refreshable finds the targets that are copied, and refuses what must not be.
func (m *Mover) refreshable(l *landscape.Landscape, r *Refreshed, o RefreshOptions) (pairs [][2]manifest.Site, err error) {
	rules, to := l.Manifest, r.To.Name
	if err := m.mayControl(l, r.To, "refresh it"); err != nil {
		return nil, err
	}
	if r.To.Tier == manifest.Live {
		return nil, fault.New(fault.Refused, "Only environments before live are refreshed.", "%s is live.", to)
	}
	for _, p := range slices.Concat(o.Tables, o.Skip) {
		if _, err := path.Match(p, ""); err != nil {
			return nil, fault.New(fault.Usage, "Write it as care.* or visitor_?.", "%q is no pattern for tables.", p)
		}
	}
	for _, s := range r.To.Sites() {
		i := slices.IndexFunc(r.From.Sites(), func(f manifest.Site) bool { return f.Into == s.Into })
		if i >= 0 && environment.Copies(s.Target) {
			pairs = append(pairs, [2]manifest.Site{r.From.Sites()[i], s})
		}
	}
	if len(pairs) == 0 {
		return nil, fault.New(fault.Refused, "Both need a database for the same folder of the project.",
			"%s has no database that %s has too.",
			r.From.Name, to)
	}
	if !o.AllowLoss {
		return nil, fault.New(fault.Refused, "Run it again with --allow-loss if that is meant; all of it is kept first.",
			"Everything that %s holds would go.", to)
	}
	for _, mask := range m.Project.Manifest.Masks {
		if !slices.Contains(rules.Masks, mask) {
			return nil, fault.New(fault.Refused, "Commit it to branch "+chest.FirstBranch+", whose rules count, and run it again.",
				"The mask of %s is declared in this workspace alone, and would hide nothing yet.", mask.Column)
		}
	}
	if len(rules.Masks) == 0 && len(r.From.Controllers) > 0 && !rules.Team.Plays(m.Project.Person, r.From.Deciders()) {
		return nil, fault.New(fault.Refused, "Declare what is masked under [[mask]] in oaken.toml, or ask them.",
			"%s decides over %s, and no mask hides any of its values.", listAnd(r.From.Controllers), r.From.Name)
	}
	return pairs, nil
}

// mayRefresh asks for all that a refresh reaches and runs before it changes anything.
func (m *Mover) mayRefresh(ctx context.Context, to manifest.Environment, pairs [][2]manifest.Site, from string) error {
	wishes := m.runsAfter(ctx, to)
	for _, s := range to.Sites() {
		wishes = append(wishes, trust.Reach(to.Name, s)...)
	}
	for _, pair := range pairs {
		wishes = append(wishes, trust.Reach(from, pair[0])...)
	}
	return m.mayRun(ctx, wishes)
}

// copyAll copies the databases, one after the other.
func (m *Mover) copyAll(ctx context.Context, rules *manifest.Manifest, r *Refreshed, pairs [][2]manifest.Site, o RefreshOptions) error {
	r.Saved = filepath.Join(m.Desk.SavesRows(), m.Now().UTC().Format("2006-01-02T150405.000Z"), r.To.Name)
	c := environment.Copying{Masks: rules.Masks, Salt: rand.Text()}
	for _, mask := range rules.Masks {
		r.Masked = append(r.Masked, mask.Column)
	}
	only, skip := environment.Matching(o.Tables), environment.Matching(o.Skip)
	if len(o.Tables)+len(o.Skip) > 0 {
		c.Rows = func(table string) bool { return (len(o.Tables) == 0 || only(table)) && !skip(table) }
	}
	for i, pair := range pairs {
		for side, name := range []string{r.From.Name, r.To.Name} {
			d, err := m.reach(ctx, name, pair[side])
			if err == nil {
				err = d.Close()
			}
			if err != nil && !errors.Is(err, environment.ErrMissing) {
				return err
			}
		}
		if o.Told != nil {
			o.Told("copying " + pair[1].Into)
		}
		c.Save = filepath.Join(r.Saved, strings.ReplaceAll(pair[1].Into, "/", "-")+".dump")
		if err := environment.Copy(ctx, m.Host, pair[0].Target, pair[1].Target, c); err != nil {
			if i > 0 {
				return fault.New(fault.Failed, "Run it again to finish.", "%s was copied, and then it failed: %w.", pairs[i-1][1].Into, err)
			}
			return err
		}
	}
	return nil
}

// deployRefreshed brings an environment to a commit, where it is not there already.
func (m *Mover) deployRefreshed(ctx context.Context, r *Refreshed, c ledger.Commit, o RefreshOptions) error {
	d, err := m.Prepare(ctx, r.To.Name, c, false)
	if err != nil {
		return err
	}
	if len(d.Plan.Steps) > 0 || c.ID != r.Has.ID {
		err = m.deployAs(ctx, d, DeployOptions{AllowLoss: true, ReplaceDrift: true, Source: ActionRefresh + " from " + r.From.Name},
			account{action: ActionDeploy, source: c.ID, lane: r.To.Lane})
		if err == nil {
			err = m.afterwards(ctx, d, o.After)
			r.After = d.After
		}
	}
	return errors.Join(err, d.Close())
}

// again deploys what the environment had before, where that has all that it holds now.
func (m *Mover) again(ctx context.Context, r *Refreshed, before ledger.Commit, o RefreshOptions) error {
	var missing, more []ledger.Commit
	err := arrival.View(ctx, m.Project.Chest, func(a *arrival.Reader) (err error) {
		if missing, err = a.Missing(before, r.Has); err == nil {
			more, err = a.Missing(r.Has, before)
		}
		return err
	})
	switch {
	case err != nil || len(more) == 0:
		return err
	case len(missing) > 0: // to deploy it would take that work away
		r.Lacks = more
		return nil
	}
	r.Again = before
	return m.deployRefreshed(ctx, r, before, o)
}
