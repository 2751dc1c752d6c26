package pipeline

import (
	"context"
	"errors"
	"maps"
	"slices"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/environment"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// recordTaken records a rollback: which work is not there any more, and, where the
// environment's branch is nobody else's, a commit on that which takes the work back.
func (m *Mover) recordTaken(ctx context.Context, r *Rollback, aside int64, order []ledger.Kept, reason string) error {
	w := m.Project
	for range mostTries {
		x := chest.TakingBack{Kept: order, Author: w.Person, Workspace: w.Name, Time: m.Now(), Aside: aside}
		for _, c := range r.Takes {
			x.Absences = append(x.Absences, ledger.Absence{Environment: r.Environment.Name, Work: c.ID, Person: w.Person, Time: x.Time,
				Reason: reason, Kept: aside})
		}
		held, err := w.Chest.Hold(ctx)
		if err != nil {
			return err
		}
		if x.Draft, err = m.takingCommit(ctx, r, reason); err == nil {
			var made ledger.Commit
			if made, err = w.Chest.TakeBack(ctx, x); err == nil && x.Draft.Branch != "" {
				r.Made = &made
			}
		}
		held()
		if err == nil && r.Made != nil {
			before, err := w.Chest.Commit(ctx, x.Draft.Tip)
			if err != nil {
				return err
			}
			return m.Desk.Follow(ctx, x.Draft.Branch, before)
		}
		if !errors.Is(err, ledger.ErrMoved) { // else others have published meanwhile
			return err
		}
	}
	return ledger.ErrMoved
}

// takingCommit is the commit that takes work back from an environment's branch: what led
// from what it held to what it holds again is done to the branch's newest commit. It has
// no branch where others take work from that one too, or where it does not fit.
func (m *Mover) takingCommit(ctx context.Context, r *Rollback, reason string) (d chest.Draft, err error) {
	w := m.Project
	l := m.rules(ctx)
	env, err := m.environment(l, r.Environment.Name)
	branch := l.Manifest.BranchOf(env)
	if err != nil || branch == "" || len(r.Takes) == 0 || takesFrom(l, branch, env) {
		return d, err
	}
	tip, err := m.tipOf(ctx, branch)
	if err != nil || tip.Depth == 0 {
		return d, err
	}
	var there []ledger.ID
	err = arrival.View(ctx, w.Chest, func(a *arrival.Reader) error {
		for _, c := range r.Takes {
			if a.Has(tip, c) {
				there = append(there, a.Root(c.ID))
			}
		}
		return nil
	})
	if err != nil || len(there) == 0 {
		return d, err
	}
	if r.is.Depth == 0 { // a branch of nothing would be no place for work to come
		r.StillOn = branch
		return d, nil
	}
	tree, fits, err := m.treeWithout(ctx, tip, r)
	if err != nil {
		return d, err
	}
	if !fits {
		r.StillOn = branch
		return d, nil
	}
	message := "Taken back from " + env.Name + ": " + labels(r.Takes, 3)
	if reason != "" {
		message += "\n\n" + reason
	}
	return chest.Draft{Branch: branch, Tip: tip.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: m.Now(), Message: message,
		Takes: there}, nil
}

// treeWithout takes out of a commit what a rollback takes back: all that led from what the
// environment held to what it holds again, or, where it gets something again that way, or the
// branch keeps some of it, each work by itself. fits is false where other work stands on it.
func (m *Mover) treeWithout(ctx context.Context, tip ledger.Commit, r *Rollback) (tree content.Digest, fits bool, err error) {
	w := m.Project
	gets, err := m.lacks(ctx, r.was, r.is)
	if err != nil {
		return tree, false, err
	}
	if len(gets) == 0 && r.all {
		b, err := w.BlendFrom(ctx, tip.Tree, r.was, r.is)
		if err != nil {
			return tree, false, err
		}
		return b.Tree, len(b.Merged.Conflicts) == 0, nil
	}
	tree = tip.Tree
	for _, c := range slices.Backward(r.Takes) {
		b, err := w.BlendBack(ctx, tree, c)
		if err != nil || len(b.Merged.Conflicts) > 0 {
			return tree, false, err
		}
		tree = b.Tree
	}
	return tree, true, nil
}

// takesFrom reports whether others take work from the branch of an environment: another
// environment, or the people of a lane, who commit to it.
func takesFrom(l *landscape.Landscape, branch string, env manifest.Environment) bool {
	if env.Tier == manifest.Development || env.Tier == "" ||
		slices.ContainsFunc(l.Manifest.Pipeline.Lanes, func(lane manifest.Lane) bool { return lane.Branch == branch }) {
		return true
	}
	return slices.ContainsFunc(l.Manifest.Environments, func(e manifest.Environment) bool {
		return e.Name != env.Name && l.Manifest.BranchOf(e) == branch
	})
}

// comesAgain lists what of some work was taken back from an environment, the last taking of
// each, and what was lost then.
func (m *Mover) comesAgain(ctx context.Context, env manifest.Environment, works []ledger.Commit) (out []ledger.Absence,
	lost environment.Files, err error) {
	all, err := m.Project.Chest.Absences(ctx)
	if err != nil || len(all[env.Name]) == 0 || len(works) == 0 {
		return nil, nil, err
	}
	err = arrival.View(ctx, m.Project.Chest, func(r *arrival.Reader) error {
		last := map[ledger.ID]ledger.Absence{}
		for _, a := range all[env.Name] {
			last[r.Root(a.Work)] = a
		}
		for _, c := range works {
			if a, ok := last[r.Root(c.ID)]; ok {
				out = append(out, a)
			}
		}
		return nil
	})
	lost = environment.Files{}
	seen := map[int64]bool{}
	for _, a := range out {
		if err != nil || a.Kept == 0 || seen[a.Kept] {
			continue
		}
		seen[a.Kept] = true
		var k ledger.Kept
		var ok bool
		if k, ok, err = m.Project.Chest.KeptAs(ctx, a.Kept); err == nil && ok {
			var gone environment.Files
			_, gone, err = m.kept(k, env)
			maps.Copy(lost, gone)
		}
	}
	return out, lost, err
}

// bringsAgain is comesAgain for all that a commit would bring to an environment.
func (m *Mover) bringsAgain(ctx context.Context, name string, c ledger.Commit) ([]ledger.Absence, environment.Files, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	works, err := m.comesWith(ctx, name, c)
	if err != nil {
		return nil, nil, err
	}
	return m.comesAgain(ctx, env, works)
}
