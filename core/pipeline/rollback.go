package pipeline

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/step"
)

// Rollback is a deployment that brings an environment back to what it held before
// others.
type Rollback struct {
	Deployment
	// Undoes lists the deployments that are taken back, the newest first.
	Undoes []ledger.Deployment
	// Filled says in sentences which rows get a value that is not their own: those that came
	// since, in columns that come back and take no null.
	Filled []string
	// Takes lists the work that the environment has no more then, the oldest first.
	Takes []ledger.Commit
	// Made is the commit that took it back from the environment's branch; nil for none. StillOn
	// is that branch, where it could not be taken back from it.
	Made    *ledger.Commit
	StillOn string
	kept    []ledger.Kept     // the newest first
	was, is ledger.Commit     // the environment's record before and after; is may be zero
	all     bool              // Takes is all that the record had
	to      ledger.Commit     // of the deployment to go back to, when one was named
	asked   int64             // its number
	filled  map[string]string // the values that were given for columns
}

// PrepareRollback computes what brings an environment back to what it held after one of
// its deployments, with the data that later ones lost; to is its number, 0 for the one
// before the last. Close it.
func (m *Mover) PrepareRollback(ctx context.Context, name string, to int64) (*Rollback, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return nil, err
	}
	release, err := m.Project.Chest.Reserve(ctx, name)
	if err != nil {
		return nil, err
	}
	r := &Rollback{asked: to, filled: m.Fill}
	if r.filled == nil {
		r.filled = map[string]string{}
	}
	if err := m.planRollback(ctx, env, to, r); err != nil {
		release()
		return nil, err
	}
	r.release = release
	return r, nil
}

func (m *Mover) planRollback(ctx context.Context, env manifest.Environment, to int64, r *Rollback) error {
	if err := m.takenBack(ctx, env.Name, to, r); err != nil {
		return err
	}
	before, lost, err := m.backTo(r.kept, env)
	if err != nil {
		return err
	}
	if to != 0 { // what was changed by hand between is no part of what it left
		if before, err = holding(ctx, m.Project.CommitState(r.to, label(r.to)), env); err != nil {
			return err
		}
	}
	before = withDataSteps(env, before, nil)
	steps, err := m.undoing(ctx, r, env, before)
	if err != nil {
		return err
	}
	oldest := r.kept[len(r.kept)-1]
	r.Deployment = Deployment{Environment: env, There: m.elsewhere(ctx, env.Name),
		Label: "what it was on " + oldest.Time.Local().Format("2006-01-02 15:04")}
	if to != 0 {
		r.Label = label(r.to)
	}
	for {
		if _, r.driver, err = m.stage(ctx, env.Name); err != nil {
			return err
		}
		if r.Plan, err = m.planOf(ctx, r.driver, env, m.Project.CommitState(r.is, label(r.is)), before, lost,
			works{steps: &steps}); err == nil {
			err = m.recordedFiles(ctx, &r.Deployment)
		}
		if err == nil {
			r.target = before
			err = m.overDrift(ctx, &r.Deployment)
		}
		if err == nil {
			return nil
		}
		err = errors.Join(err, r.driver.Close())
		if !m.fillBack(r, env, lost, err) {
			return err
		}
	}
}

// fillBack lets a column that comes back, and may take no null, begin with one of the
// values that it lost, where the person gives none. Then each row gets its own again; rows
// that came since keep the first one. It reports whether that may help against an error.
func (m *Mover) fillBack(r *Rollback, env manifest.Environment, lost environment.Files, failed error) bool {
	var need *step.RowsError
	if !errors.As(failed, &need) {
		return false
	}
	want := strings.NewReplacer(`"`, "", "`", "").Replace(need.Table + "." + need.Column)
	if _, given := m.Fill[want]; given {
		return false
	}
	for name, data := range lost {
		if key, column := columnOf(env, name); key == want {
			sheet, err := rows.Parse(data)
			if err != nil || len(sheet.Rows) == 0 || sheet.Column(column) < 0 {
				return false
			}
			value := "'" + strings.ReplaceAll(sheet.Rows[0][sheet.Column(column)].Text, "'", "''") + "'"
			m.Fill = maps.Clone(m.Fill)
			if m.Fill == nil {
				m.Fill = map[string]string{}
			}
			m.Fill[key] = value
			r.Filled = append(r.Filled, fmt.Sprintf("%s takes no null: rows that came since get %s there, unless --fill says otherwise.",
				key, value))
			return true
		}
	}
	return false
}

// columnOf gives the column whose lost values a file has, rows/TABLE/COLUMN.csv below the
// folder of a target, as --fill names it; empty for none.
func columnOf(env manifest.Environment, name string) (key, column string) {
	for _, site := range env.Sites() {
		below, ok := strings.CutPrefix(name, site.Into+"/")
		below, isRows := strings.CutSuffix(below, ".csv")
		parts := strings.Split(below, "/")
		if i := slices.Index(parts, "rows"); ok && isRows && i >= 0 && len(parts) == i+3 {
			return strings.Join(slices.Delete(slices.Clone(parts), i, i+1), "."), parts[i+2]
		}
	}
	return "", ""
}

// takenBack finds what was kept before the deployments that a rollback takes back.
func (m *Mover) takenBack(ctx context.Context, name string, to int64, r *Rollback) error {
	all, err := m.Project.Chest.KeptSince(ctx, name)
	if err != nil {
		return err
	}
	done, err := m.Project.Chest.Deployments(ctx, name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(done, func(d chest.Deployed) bool { return d.Number == to && d.Undone == nil })
	if i >= 0 {
		r.to = done[i].Commit
	} else if to != 0 {
		return fault.New(fault.Usage, "oaken deployments "+fault.Word(name)+" lists them with their numbers.",
			"Deployment %d is none that %s could go back to.", to, name)
	}
	for _, k := range all {
		if to == 0 && len(r.kept) > 0 && k.Deployment != r.kept[0].Deployment {
			break
		}
		if to != 0 && k.Deployment > 0 && k.Deployment <= to {
			break
		}
		r.kept = append(r.kept, k)
		if to == 0 && k.Deployment == ledger.Unnumbered {
			break
		}
	}
	if len(r.kept) == 0 && to != 0 {
		return fault.New(fault.Refused, "oaken drift "+fault.Word(name)+" shows what somebody changed since.",
			"%s is at deployment %d, or at one that changed nothing since.", name, to)
	}
	if len(r.kept) == 0 {
		return fault.New(fault.Refused, "Deploy the state that it is to have: oaken deploy "+fault.Word(name)+" STATE.",
			"No deployment to %s is recorded that could be taken back.", name)
	}
	first := int64(0)
	for _, k := range r.kept {
		if k.Deployment > 0 {
			first = k.Deployment
		}
	}
	for _, d := range done {
		switch {
		case d.Undone != nil:
		case first > 0 && d.Number >= first:
			r.Undoes = append(r.Undoes, d.Deployment)
			if r.was.Depth == 0 {
				r.was = d.Commit
			}
		case r.is.Depth == 0:
			r.is = d.Commit
		}
	}
	env, err := m.declaration(ctx, name)
	if err != nil || r.was.Depth == 0 {
		return err
	}
	if r.is.Depth == 0 { // nothing is known of what it holds again, but where that is nothing at all
		if before, _, err := m.backTo(r.kept, env); err != nil || len(before) > 0 {
			return err
		}
	}
	works, err := m.lacks(ctx, r.is, r.was)
	if err != nil {
		return err
	}
	for _, c := range works { // rules, say, are not what the environment holds
		touched, err := m.touchesFolders(ctx, c, env)
		if err != nil {
			return err
		}
		if touched {
			r.Takes = append(r.Takes, c)
		}
	}
	r.all = len(r.Takes) == len(works)
	return nil
}

// backTo gives what an environment held before the oldest of some deployments, and what
// they lost: where several lost rows of one table, the oldest did it first, and counts.
func (m *Mover) backTo(kept []ledger.Kept, env manifest.Environment) (before, lost environment.Files, err error) {
	all := environment.Files{}
	for _, k := range kept {
		if before, lost, err = m.kept(k, env); err != nil {
			return nil, nil, err
		}
		maps.Copy(all, lost)
	}
	return before, all, nil
}

// kept gives what an environment held before a deployment, and what that lost.
func (m *Mover) kept(k ledger.Kept, env manifest.Environment) (before, lost environment.Files, err error) {
	files, err := m.Project.Chest.KeptFiles(k)
	before, lost = environment.Files{}, environment.Files{}
	for name, data := range files {
		if p, ok := strings.CutPrefix(name, keptWas); ok {
			before[p] = data
		} else if p, ok := strings.CutPrefix(name, keptGone); ok {
			lost[p] = data
		} else if below, ok := strings.CutPrefix(name, keptBefore); ok {
			before[env.Into+"/"+below] = data
		} else if below, ok := strings.CutPrefix(name, keptLost); ok {
			lost[env.Into+"/"+below] = data
		}
	}
	return before, lost, err
}

// Rollback carries a prepared rollback out and records that the deployments are undone, and
// which work is not there any more. Where nobody else takes work from the environment's
// branch, a commit takes it back from that too.
func (m *Mover) Rollback(ctx context.Context, r *Rollback, o DeployOptions) (err error) {
	if m.elsewhere(ctx, r.Environment.Name) {
		return m.rollBackThere(ctx, r, o)
	}
	defer func() { m.attempted(ctx, r.Environment.Name, ActionRollback, err) }()
	if err := m.mayControl(m.rules(ctx), r.Environment, "roll it back"); err != nil {
		return err
	}
	return m.rollBack(ctx, r, o)
}

// rollBack is Rollback for what the rules of the project ask for.
func (m *Mover) rollBack(ctx context.Context, r *Rollback, o DeployOptions) (err error) {
	kept, err := m.carryOut(ctx, &r.Deployment, o)
	if err != nil {
		return err
	}
	defer func() {
		if err == nil {
			r.recorded(ctx)
		}
	}()
	order := slices.Clone(r.kept)
	slices.Reverse(order)
	// the oldest deployment first: all after it are undone with it, at once
	if i := slices.IndexFunc(order, func(k ledger.Kept) bool { return k.Deployment > 0 }); i > 0 {
		order[0], order[i] = order[i], order[0]
	}
	return m.recordTaken(ctx, r, kept, order, o.Reason)
}

// Lost gives the files of rows that the last deployment to an environment lost.
func (m *Mover) Lost(ctx context.Context, name string) (environment.Files, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return nil, err
	}
	k, ok, err := m.Project.Chest.LastKept(ctx, name)
	if err != nil || !ok {
		return nil, err
	}
	_, lost, err := m.kept(k, env)
	if len(env.Also) == 0 {
		lost = environment.Inside(lost, env.Into)
	}
	return lost, err
}
