package pipeline

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/history"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// A data step belongs to the work that adds its file. It is due in an environment whose record
// has not that work, and is taken back where the work is not wanted any more. So rollbacks,
// refreshed stages and promotions need no list of what ran where.

// What to take of data steps in an environment of which nothing is recorded.
const (
	StepsDone = "done"
	StepsDue  = "due"
)

// works is work that a state has: that of some commits, without some of it.
type works struct {
	of, without []ledger.Commit
	// steps, when set, are the data steps that it takes to come there.
	steps *environment.DataSteps
}

// has reports whether a state has some work.
func (w works) has(r *arrival.Reader, c ledger.Commit) bool {
	return slices.ContainsFunc(w.of, func(tip ledger.Commit) bool { return tip.Depth > 0 && r.Has(tip, c) }) &&
		!slices.ContainsFunc(w.without, func(o ledger.Commit) bool { return r.Root(o.ID) == r.Root(c.ID) })
}

// dataStepsIn lists the data steps among the files of an environment, by path, sorted.
func dataStepsIn(env manifest.Environment, files environment.Files) (out []string) {
	for name, data := range files {
		for _, s := range env.Sites() {
			if below, ok := strings.CutPrefix(name, s.Into+"/"); ok && data != nil && environment.IsDataStep(below) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// withDataSteps gives files with the data steps of others in place of their own.
func withDataSteps(env manifest.Environment, files, of environment.Files) environment.Files {
	out := environment.Files{}
	for name, data := range files {
		out[name] = data
	}
	for _, name := range dataStepsIn(env, files) {
		delete(out, name)
	}
	for _, name := range dataStepsIn(env, of) {
		out[name] = of[name]
	}
	return out
}

// stepped is a data step whose file is in one of two states, and the commit that added it; none
// for one that no commit has.
type stepped struct {
	name string
	by   *ledger.Commit
}

// onlyIn lists the data steps of files that others lack, under any name, and who added them to
// what some commits hold.
func (m *Mover) onlyIn(ctx context.Context, env manifest.Environment, files, others environment.Files,
	tips []ledger.Commit) (out []stepped, err error) {
	there := map[element.Digest]bool{}
	for _, name := range dataStepsIn(env, others) {
		there[element.DigestOf(others[name])] = true
	}
	for _, name := range dataStepsIn(env, files) {
		if others[name] != nil || there[element.DigestOf(files[name])] {
			continue
		}
		s := stepped{name: name}
		for _, tip := range tips {
			if s.by, err = m.addedBy(ctx, tip, name); err != nil {
				return nil, err
			}
			if s.by != nil {
				break
			}
		}
		out = append(out, s)
	}
	return out, nil
}

// addedBy gives the commit before a tip that added a file last; nil for none.
func (m *Mover) addedBy(ctx context.Context, tip ledger.Commit, path string) (*ledger.Commit, error) {
	list, _, err := history.List(ctx, m.Project.Chest, tip, history.Query{Path: path})
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		pairs, err := m.Project.Did(ctx, e.Commit)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(pairs, func(p chest.Pair) bool { return p.Path == e.Path && added(p, pairs) }) {
			return &e.Commit, nil
		}
	}
	return nil, nil
}

// added reports whether a file was added, and not moved, by what a commit did.
func added(p chest.Pair, pairs []chest.Pair) bool {
	return p.Was.Mode == 0 && p.Is.Mode != 0 &&
		!slices.ContainsFunc(pairs, func(o chest.Pair) bool { return o.Is.Mode == 0 && o.Was.Digest == p.Is.Digest })
}

// dataSteps finds which data steps are to be run in an environment that is to hold files, with
// the work of a state, and which are to be taken back; tidied are those that have run and whose
// files are gone though their work is there.
func (m *Mover) dataSteps(ctx context.Context, env manifest.Environment, files environment.Files, has works) (out environment.DataSteps,
	tidied []string, err error) {
	if has.steps != nil {
		return *has.steps, nil, nil
	}
	if out.Tokens, err = m.unended(ctx, env); err != nil {
		return out, nil, err
	}
	r, known, err := m.Project.Chest.Record(ctx, env.Name)
	if err != nil {
		return out, tidied, err
	}
	if !known {
		switch names := dataStepsIn(env, files); m.DataSteps {
		case StepsDue:
			out.Due = names
		case StepsDone:
		default:
			out.Unknown = names
		}
		return out, nil, nil
	}
	held, err := m.heldSteps(ctx, env, r.Commit)
	if err != nil {
		return out, tidied, err
	}
	fresh, err := m.onlyIn(ctx, env, files, held, has.of)
	if err != nil {
		return out, tidied, err
	}
	left, err := m.onlyIn(ctx, env, held, files, []ledger.Commit{r.Commit})
	if err != nil {
		return out, tidied, err
	}
	gone := slices.Clone(has.without)
	var since, onlyHeld []ledger.Commit
	err = arrival.View(ctx, m.Project.Chest, func(a *arrival.Reader) error {
		for _, s := range fresh {
			if s.by == nil || !a.Has(r.Commit, *s.by) {
				out.Due = append(out.Due, s.name)
			}
		}
		var err error
		onlyHeld, err = a.Missing(has.of[0], r.Commit)
		for _, c := range onlyHeld {
			if !has.has(a, c) {
				gone = append(gone, c)
			}
		}
		if err == nil && len(left) > 0 {
			since, err = a.Missing(r.Commit, has.of[0])
		}
		return err
	})
	for _, s := range fresh { // what somebody undid there is to be done again
		if err != nil || slices.Contains(out.Due, s.name) {
			continue
		}
		var undone bool
		if undone, err = m.undoneWith(ctx, s, onlyHeld); undone {
			out.Due = append(out.Due, s.name)
		}
	}
	if err == nil {
		out.Back, err = m.stepsOf(ctx, env, r.Commit, gone, held)
	}
	for _, name := range dataStepsIn(env, out.Back) {
		_, there := held[name]
		if files[name] != nil || !there && has.of[0].Depth == 0 {
			delete(out.Back, name)
		}
	}
	for _, s := range left {
		if err != nil || out.Back[s.name] != nil {
			continue
		}
		var undone bool
		if undone, err = m.undoneWith(ctx, s, since); undone {
			out.Back[s.name] = held[s.name]
		} else {
			tidied = append(tidied, s.name)
		}
	}
	return out, tidied, err
}

// undoneWith reports whether the commit that took the file of a data step away also brought
// something back to what it was before the commit that added it: then that took the work back.
func (m *Mover) undoneWith(ctx context.Context, s stepped, since []ledger.Commit) (bool, error) {
	if s.by == nil {
		return false, nil
	}
	work, err := m.Project.Did(ctx, *s.by)
	if err != nil {
		return false, err
	}
	before := map[string]chest.Pair{}
	for _, p := range work {
		before[p.Path] = p
	}
	for _, c := range since {
		pairs, err := m.Project.Did(ctx, c)
		if err != nil {
			return false, err
		}
		if !slices.ContainsFunc(pairs, func(p chest.Pair) bool { return p.Path == s.name && p.Is.Mode == 0 }) {
			continue
		}
		for _, p := range pairs {
			was, same := before[p.Path]
			if same && p.Path != s.name && p.Is.Mode == was.Was.Mode && p.Is.Digest == was.Was.Digest {
				return true, nil
			}
		}
	}
	return false, nil
}

// heldSteps gives the data steps of an environment that a commit has.
func (m *Mover) heldSteps(ctx context.Context, env manifest.Environment, c ledger.Commit) (environment.Files, error) {
	at := m.Project.CommitState(c, label(c))
	list, err := at.Files(ctx)
	out := environment.Files{}
	for _, f := range list {
		if err == nil && len(dataStepsIn(env, environment.Files{f.Path: {}})) > 0 {
			out[f.Path], err = state.ReadFile(at, f.Path)
		}
	}
	return out, err
}

// stepsOf gives the data steps that some work added to what an environment holds, as they are
// held or, where they were tidied away, as they were last.
func (m *Mover) stepsOf(ctx context.Context, env manifest.Environment, at ledger.Commit, work []ledger.Commit,
	held environment.Files) (environment.Files, error) {
	out := environment.Files{}
	for _, c := range work {
		pairs, err := m.Project.Did(ctx, c)
		if err != nil {
			return nil, err
		}
		for _, p := range pairs {
			if len(dataStepsIn(env, environment.Files{p.Path: {}})) == 0 || !added(p, pairs) {
				continue
			}
			if out[p.Path] = held[p.Path]; out[p.Path] != nil {
				continue
			}
			if out[p.Path], err = m.lastText(ctx, c, at, p.Path); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// noneDue reports whether an environment has run all data steps that a commit has, as far as
// anybody knows.
func (m *Mover) noneDue(ctx context.Context, env manifest.Environment, files environment.Files, c ledger.Commit) (bool, error) {
	if len(dataStepsIn(env, files)) == 0 {
		return true, nil
	}
	steps, _, err := m.dataSteps(ctx, env, files, works{of: []ledger.Commit{c}})
	return len(steps.Due)+len(steps.Back) == 0, err
}

// heldBy gives what an environment is known to hold; nothing where nothing is known.
func (m *Mover) heldBy(ctx context.Context, env manifest.Environment) (environment.Files, error) {
	r, known, err := m.Project.Chest.Record(ctx, env.Name)
	if err != nil || !known {
		return nil, err
	}
	return holding(ctx, m.Project.CommitState(r.Commit, label(r.Commit)), env)
}

// undoing gives what takes back the data steps that some deployments ran, by their accounts, and
// runs those again that they took back; files get the texts of the latter. What is noted of
// deployments that did not end is taken back too.
func (m *Mover) undoing(ctx context.Context, r *Rollback, env manifest.Environment, files environment.Files) (out environment.DataSteps,
	err error) {
	if out.Tokens, err = m.unended(ctx, env); err != nil {
		return out, err
	}
	out.Undo, out.Back = r.kept[0].Deployment == 0, environment.Files{}
	held, err := m.heldBy(ctx, env)
	if err != nil {
		return out, err
	}
	first, last := map[string]string{}, map[string]string{} // what was done first and last, by address
	for _, d := range r.Undoes {                            // the newest first
		account, err := m.Record(ctx, d.Number)
		if err != nil {
			return out, err
		}
		for _, s := range account.Steps {
			if s.What == environment.RunsStep || s.What == environment.TakesStepBack {
				first[s.Address] = s.What
				if last[s.Address] == "" {
					last[s.Address] = s.What
				}
			}
		}
	}
	for address, what := range first {
		if what != last[address] {
			continue // it was as it is
		}
		name := stepPath(env, address)
		text := held[name]
		if text == nil && r.is.Depth > 0 {
			text, _ = state.ReadFile(m.Project.CommitState(r.is, label(r.is)), name)
		}
		if text == nil {
			if text, err = m.lastText(ctx, r.was, r.was, name); err != nil {
				return out, err
			}
		}
		if what == environment.RunsStep {
			out.Back[name] = text
		} else {
			files[name], out.Due = text, append(out.Due, name)
		}
	}
	return out, nil
}

// unended gives the tokens of deployments that did not end.
func (m *Mover) unended(ctx context.Context, env manifest.Environment) (out []string, err error) {
	kept, err := m.Project.Chest.KeptSince(ctx, env.Name)
	for _, k := range kept {
		if k.Deployment != 0 {
			break
		}
		out = append(out, token(k))
	}
	return out, err
}

// stepPath gives the path of the file of a data step by its address.
func stepPath(env manifest.Environment, address string) string {
	for _, s := range env.Sites() {
		if rest, ok := strings.CutPrefix(address, s.Into+"::"); ok {
			if a, err := element.ParseAddress(s.Into + "::" + rest); err == nil && len(a.Steps) > 0 {
				return s.Into + "/" + environment.StepFile(a.Steps[len(a.Steps)-1].Key)
			}
		}
	}
	return ""
}

// token tells a deployment in its target, by what was kept before it.
func token(k ledger.Kept) string { return fmt.Sprintf("%s/%d/%s", k.Environment, k.ID, k.Tree) }

// lastText gives a file that a commit added and that is gone since, as it was last before at.
func (m *Mover) lastText(ctx context.Context, added, at ledger.Commit, path string) ([]byte, error) {
	list, _, err := history.List(ctx, m.Project.Chest, at, history.Query{Path: path})
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if data, err := state.ReadFile(m.Project.CommitState(e.Commit, label(e.Commit)), e.Path); err == nil {
			return data, nil
		}
	}
	return state.ReadFile(m.Project.CommitState(added, label(added)), path)
}

// RanIn lists the environments that are known to have run a data step, by its path, and those
// that hold such a folder and have not.
func (m *Mover) RanIn(ctx context.Context, path string) (ran, not []string, err error) {
	for _, env := range m.Project.Manifest.Environments {
		r, known, err := m.Project.Chest.Record(ctx, env.Name)
		if err != nil {
			return nil, nil, err
		}
		if !known || len(dataStepsIn(env, environment.Files{path: {}})) == 0 {
			continue
		}
		held, err := holding(ctx, m.Project.CommitState(r.Commit, label(r.Commit)), env)
		if err != nil {
			return nil, nil, err
		}
		if slices.Contains(dataStepsIn(env, held), path) {
			ran = append(ran, env.Name)
		} else {
			not = append(not, env.Name)
		}
	}
	return ran, not, nil
}
