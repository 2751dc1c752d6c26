package pipeline

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"oakenchest/core/check"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/trust"
)

// Aftermath is what came of the commands that must pass after a deployment.
type Aftermath struct {
	// Outcome is one of those below.
	Outcome string        `json:"outcome"`
	Results []AfterResult `json:"results,omitempty"`
}

// The outcomes.
const (
	AfterPending    = "pending" // they have not run, or not to their end: nobody knows
	AfterPassed     = "passed"
	AfterDoubt      = "in doubt"    // one did not pass, and what was deployed is there still
	AfterRolledBack = "rolled back" // one did not pass, and the deployment was taken back
)

// AfterResult is what one of them said.
type AfterResult struct {
	Name   string `json:"name"`
	Passed bool   `json:"passed"`
	Said   string `json:"said"`
	// Took is how long it ran, in milliseconds; Output the end of what it wrote.
	Took   int64  `json:"took"`
	Output string `json:"output,omitempty"`
}

// aftersOf lists what must pass after a deployment to an environment, by the rules that count.
func (m *Mover) aftersOf(ctx context.Context, env manifest.Environment) (out []manifest.After) {
	for _, a := range m.rules(ctx).Manifest.Pipeline.Afters {
		if a.For(env) {
			out = append(out, a)
		}
	}
	return out
}

// pendingAfter is what is noted of a deployment until they have run; empty where there are none.
func (m *Mover) pendingAfter(ctx context.Context, env manifest.Environment) (string, error) {
	if len(m.aftersOf(ctx, env)) == 0 {
		return "", nil
	}
	data, err := json.Marshal(Aftermath{Outcome: AfterPending})
	return string(data), err
}

// readAfter reads what is noted; nil for nothing.
func readAfter(text string) (*Aftermath, error) {
	if text == "" {
		return nil, nil
	}
	var a Aftermath
	err := json.Unmarshal([]byte(text), &a)
	return &a, err
}

// afterwards runs what must pass after a deployment, and notes what came of it. The environment is let go first: what
// does not pass may be taken back.
func (m *Mover) afterwards(ctx context.Context, d *Deployment, told func(name string)) error {
	list := m.aftersOf(ctx, d.Environment)
	if d.number == 0 || len(list) == 0 {
		return nil
	}
	if err := d.Close(); err != nil {
		return err
	}
	var err error
	d.After, err = m.prove(ctx, provenOne{d.Environment, d.number, d.deployed}, list, told)
	return err
}

// provenOne is a deployment that commands are run after.
type provenOne struct {
	env    manifest.Environment
	number int64
	commit ledger.Commit
}

// prove runs commands for a deployment, and does what is declared where one does not pass.
func (m *Mover) prove(ctx context.Context, one provenOne, list []manifest.After, told func(name string)) (*Aftermath, error) {
	out := &Aftermath{Outcome: AfterPassed}
	failed := -1
	for i, a := range list {
		if told != nil {
			told(a.Name)
		}
		r, err := m.runAfter(ctx, one, a)
		if err != nil {
			out.Outcome = AfterPending
			return out, err
		}
		out.Results = append(out.Results, r)
		if !r.Passed && (failed < 0 || a.Otherwise == manifest.OtherwiseRollback) {
			failed, out.Outcome = i, AfterDoubt
		}
	}
	if err := m.noteAfter(ctx, one, out); err != nil || failed < 0 {
		return out, err
	}
	return out, m.otherwise(ctx, one, list[failed], out, out.Results[failed].Said)
}

// otherwise does what is declared for a command that did not pass, and says so in an error.
func (m *Mover) otherwise(ctx context.Context, one provenOne, a manifest.After, out *Aftermath, said string) error {
	env := one.env.Name
	if a.Otherwise != manifest.OtherwiseRollback {
		return fault.New(fault.Failed,
			"What was deployed is there, and "+env+" counts as in doubt: nothing moves on from it. Mend it and deploy "+
				"again, run this once more with oaken deployments prove "+fault.Word(env)+", or take it back with oaken rollback "+
				fault.Word(env)+".",
			"%s did not pass in %s: %s.", a.Name, env, said)
	}
	if err := m.takeBackFailed(ctx, env, a.Name+" did not pass: "+said); err != nil {
		return fault.New(fault.Failed, env+" counts as in doubt. Take it back by hand: oaken rollback "+fault.Word(env)+".",
			"%s did not pass in %s (%s), and the deployment could not be taken back: %w.", a.Name, env, said, err)
	}
	out.Outcome = AfterRolledBack
	return errors.Join(m.noteAfter(ctx, one, out), fault.New(fault.Failed, "Mend it; what was taken back comes again with --again.",
		"%s did not pass in %s: %s. The deployment was taken back.", a.Name, env, said))
}

// takeBackFailed takes the last deployment back. That the rules of the project say so is the consent to it; what came since
// is saved first.
func (m *Mover) takeBackFailed(ctx context.Context, env, reason string) error {
	r, err := m.PrepareRollback(ctx, env, 0)
	if err != nil {
		return err
	}
	err = m.rollBack(ctx, r, DeployOptions{AllowLoss: true, ReplaceDrift: true, Reason: reason})
	return errors.Join(err, r.Close())
}

func (m *Mover) noteAfter(ctx context.Context, one provenOne, a *Aftermath) error {
	data, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return m.Project.Chest.NoteAfter(context.WithoutCancel(ctx), one.env.Name, one.number, string(data))
}

// runAfter runs one command in a folder with what was deployed. An error is one of running it at all.
func (m *Mover) runAfter(ctx context.Context, one provenOne, a manifest.After) (AfterResult, error) {
	if err := m.mayRun(ctx, []trust.Wish{trust.Command(trust.After, a.Name, a.Command)}); err != nil {
		return AfterResult{}, err
	}
	dir, done, err := m.afterFolder(ctx, one.commit, a)
	if err != nil {
		return AfterResult{}, err
	}
	defer done()
	began := time.Now()
	output, failed := check.RunAmong(ctx, m.variables(), a.Command, a.Time(), dir, "OAKEN_ENVIRONMENT="+one.env.Name,
		"OAKEN_STATE="+label(one.commit))
	if err := ctx.Err(); err != nil {
		return AfterResult{}, err
	}
	r := AfterResult{Name: a.Name, Passed: failed == nil, Said: "passed", Took: time.Since(began).Milliseconds(), Output: output}
	if failed != nil {
		r.Said = failed.Error()
		if last := check.LastLine(output); last != "" {
			r.Said += ": " + last
		}
	}
	return r, nil
}

// afterFolder lays out what was deployed, with the command's own files as the first branch has them.
func (m *Mover) afterFolder(ctx context.Context, c ledger.Commit, a manifest.After) (string, func(), error) {
	if len(a.Files) > 0 {
		tip, err := m.tipOf(ctx, chest.FirstBranch)
		if err != nil {
			return "", nil, err
		}
		if c.Tree, err = m.Project.TreeTaking(ctx, c.Tree, tip.Tree, a.Files); err != nil {
			return "", nil, err
		}
	}
	return m.gateFolder(ctx, m.Project.CommitState(c, label(c)))
}

// Prove runs what must pass after the last deployment to an environment once more.
func (m *Mover) Prove(ctx context.Context, name string, told func(name string)) (*Aftermath, error) {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return nil, err
	}
	if m.elsewhere(ctx, name) {
		return m.proveThere(ctx, name, told)
	}
	list := m.aftersOf(ctx, env)
	if len(list) == 0 {
		return nil, fault.New(fault.Usage, "Declare it under [[pipeline.after]] in oaken.toml, and commit that.",
			"Nothing is declared that must pass after a deployment to %s.", name)
	}
	last, ok, err := m.Project.Chest.LastDeployment(ctx, name)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fault.New(fault.Usage, "Deploy to it first.", "Nothing was deployed to %s.", name)
	}
	c, err := m.Project.Chest.Commit(ctx, last.Commit)
	if err != nil {
		return nil, err
	}
	return m.prove(ctx, provenOne{env, last.Number, c}, list, told)
}

// afterOf gives what came of the commands after the last deployment to an environment; nil for none.
func (m *Mover) afterOf(ctx context.Context, name string) (*Aftermath, error) {
	last, ok, err := m.Project.Chest.LastDeployment(ctx, name)
	if err != nil || !ok {
		return nil, err
	}
	a, ok, err := m.Project.Chest.Account(ctx, last.Number)
	if err != nil || !ok {
		return nil, err
	}
	return readAfter(a.After)
}

// proofGate is shut while that which moves comes from an environment that is in doubt.
func (m *Mover) proofGate(ctx context.Context, p *Promotion, add func(name, said, do string)) error {
	a, err := m.afterOf(ctx, p.From.Name)
	if err != nil || a == nil || a.Outcome == AfterPassed || a.Outcome == AfterRolledBack {
		return err
	}
	said := "what must pass in " + p.From.Name + " after a deployment has not run to its end"
	if a.Outcome == AfterDoubt {
		said = fmt.Sprintf("%s is in doubt: %s did not pass there", p.From.Name, strings.Join(a.Failed(), ", "))
	}
	add(GateProof, said, "Mend it and run them again: oaken deployments prove "+fault.Word(p.From.Name)+".")
	return nil
}

// Failed lists the commands that did not pass.
func (a *Aftermath) Failed() (out []string) {
	for _, r := range a.Results {
		if !r.Passed {
			out = append(out, r.Name)
		}
	}
	return out
}
