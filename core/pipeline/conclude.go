package pipeline

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/workspace"
)

// The words for what a deployment was.
const (
	ActionDeploy   = "deploy"
	ActionPromote  = "promote"
	ActionBackfill = "backfill"
	ActionSettle   = "settle"
	ActionWithdraw = "withdraw"
	ActionRollback = "rollback"
	ActionBranch   = "branch"
	ActionFound    = workspace.FoundThere // it held that already, by whatever way it came there
)

func label(c ledger.Commit) string { return workspace.Label(c) }

// StepRecord is a step as it is kept with the account of a deployment.
type StepRecord struct {
	Address    string   `json:"address"`
	What       string   `json:"what"`
	Effect     string   `json:"effect"`
	Loss       string   `json:"loss,omitempty"`
	Statements []string `json:"statements,omitempty"`
}

// The files of an account.
const (
	accountSteps = "steps.json"
	accountGates = "gates/"
	accountPlan  = "plan.json"
)

// account writes down what is known of a deployment that was carried out.
type account struct {
	action, origin, lane string
	source               ledger.ID
	began                time.Time
	gates                []GateResult
	moved                []ledger.Commit
	reason               string
	plan                 *PlanFile // that was followed; nil for none
}

// accountOf stores the statements and the gates' output, and gives the row that names them.
func (m *Mover) accountOf(ctx context.Context, d *Deployment, a account) (ledger.Account, error) {
	steps := []StepRecord{}
	for _, s := range d.Plan.Steps {
		into := s.Into
		if into == "" {
			into = d.Environment.Into
		}
		steps = append(steps, StepRecord{Address: s.Address.InPath(into).String(), What: s.What, Effect: string(s.Effect), Loss: s.Loss,
			Statements: s.Statements})
	}
	data, err := json.Marshal(steps)
	if err != nil {
		return ledger.Account{}, err
	}
	files := []chest.KeptFile{chest.InMemory(accountSteps, data)}
	for _, g := range a.gates {
		if g.Output != "" {
			files = append(files, chest.InMemory(accountGates+strings.ReplaceAll(g.Name, "/", "-"), []byte(g.Output)))
		}
	}
	if a.plan != nil {
		if data, err = a.plan.Write(); err != nil {
			return ledger.Account{}, err
		}
		files = append(files, chest.InMemory(accountPlan, data))
	}
	out := ledger.Account{Action: a.action, Origin: a.origin, Lane: a.lane, Source: a.source, Began: a.began, Took: m.Now().Sub(a.began),
		Items: itemsOf(a.moved), Reason: a.reason}
	if a.plan != nil {
		out.Plan = a.plan.Sum()
	}
	if out.Tree, err = m.Project.Chest.Store(ctx, files); err != nil {
		return out, err
	}
	gates, err := json.Marshal(a.gates)
	out.Gates = string(gates)
	return out, err
}

// itemsOf lists the work items of commits, sorted, each once.
func itemsOf(commits []ledger.Commit) []string {
	var out []string
	for _, c := range commits {
		if c.Item != "" && !slices.Contains(out, c.Item) {
			out = append(out, c.Item)
		}
	}
	slices.Sort(out)
	return out
}

// conclude records a deployment with what is known of it, and publishes the commits that
// it is of, all in one transaction.
func (m *Mover) conclude(ctx context.Context, d *Deployment, kept int64, a account, x chest.Conclusion,
	source string) (ledger.Commit, error) {
	var err error
	if x.Account, err = m.accountOf(ctx, d, a); err != nil {
		return ledger.Commit{}, err
	}
	w := m.Project
	x.Kept = append(d.unfinished, kept)
	x.Deployment = ledger.Deployment{Environment: d.Environment.Name, Commit: d.Commit.ID, Author: w.Person, Workspace: w.Name,
		Time: m.Now(), Source: source, Steps: len(d.Plan.Steps)}
	x.Proofs = m.rulesOf(ctx, d.Environment)
	if a.action == ActionDeploy || a.action == ActionPromote {
		if x.Account.After, err = m.pendingAfter(ctx, d.Environment); err != nil {
			return ledger.Commit{}, err
		}
	}
	done, err := w.Chest.Conclude(ctx, x)
	if err == nil {
		d.number, d.deployed = done.Number, done.Commit
		d.recorded(ctx)
	}
	return done.Commit, err
}

// Noted records what an environment was found to hold, when the records say otherwise.
func (m *Mover) Noted(ctx context.Context, name string, c ledger.Commit) error {
	env, err := m.declaration(ctx, name)
	if err != nil {
		return err
	}
	r, known, err := m.record(ctx, env)
	if err != nil || known && r.Commit.ID == c.ID || c.Depth == 0 {
		return err
	}
	return m.found(ctx, env, c)
}

// found records that an environment holds a commit that was not deployed there by us.
func (m *Mover) found(ctx context.Context, env manifest.Environment, c ledger.Commit) error {
	return m.proved(ctx, env, c, evidence{ActionFound, ActionFound, 0})
}

// newBranch makes a branch with a first commit of its own on top of another, and records that an environment was
// proven to hold that; all in one act.
func (m *Mover) newBranch(ctx context.Context, b ledger.Branch, files map[string][]byte, message string, env manifest.Environment,
	p evidence) (c ledger.Commit, err error) {
	w := m.Project
	if err := chest.CheckName(b.Name); err != nil {
		return c, err
	}
	on, err := w.Chest.Commit(ctx, b.Tip)
	if err != nil {
		return c, err
	}
	err = w.Chest.Storing(ctx, func() error {
		tree, err := w.TreeWith(ctx, on.Tree, files)
		if err != nil {
			return err
		}
		x := m.proof(ctx, env, p)
		x.NewBranch, x.OwnName, x.OwnSource = b, true, true
		x.Drafts = []chest.Draft{{Branch: b.Name, Tip: b.Tip, Tree: tree, Author: w.Person, Workspace: w.Name, Time: m.Now(),
			Message: message}}
		done, err := w.Chest.Conclude(ctx, x)
		c = done.Commit
		return err
	})
	return c, err
}

// evidence is what an environment was proven by: the word of an act, what it was asked for, its steps.
type evidence struct {
	action, source string
	steps          int
}

// proof is what is recorded of it, but for the commit.
func (m *Mover) proof(ctx context.Context, env manifest.Environment, p evidence) chest.Conclusion {
	w := m.Project
	return chest.Conclusion{
		Deployment: ledger.Deployment{Environment: env.Name, Author: w.Person, Workspace: w.Name, Time: m.Now(), Source: p.source,
			Steps: p.steps},
		Account: ledger.Account{Action: p.action, Began: m.Now(), Gates: "[]"}, Proofs: m.rulesOf(ctx, env),
	}
}

// proved records that an environment was proven to hold a commit, by an act that has its own
// word.
func (m *Mover) proved(ctx context.Context, env manifest.Environment, c ledger.Commit, p evidence) error {
	x := m.proof(ctx, env, p)
	x.Deployment.Commit, x.Account.Source = c.ID, c.ID
	_, err := m.Project.Chest.Conclude(ctx, x)
	return err
}
