package pipeline

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Station is the server that keeps the project, as far as it reaches environments: their drivers run there, with secrets that
// never leave it. From here they are looked at by questions, and changed by errands.
type Station interface {
	// Ask puts a question to the driver of a target; counting, when set, is told which of the tables is read.
	Ask(ctx context.Context, at Spot, q environment.Question, counting func(table string, done, of int)) (environment.Answer, error)
	// Do has an errand carried out, and tells how far it is. It goes on when nobody listens any more. A report may come beside
	// an error: something was done, and something else failed.
	Do(ctx context.Context, e Errand, told func(Sign)) (*Report, error)
}

// Spot is a target of an environment.
type Spot struct {
	Environment string            `json:"environment"`
	Into        string            `json:"into"`
	Fill        map[string]string `json:"fill,omitempty"`
}

// The errands that are no deployments of some action.
const (
	errandUndo    = "undo"
	errandProve   = "prove"
	errandLog     = "log"
	errandPlanned = "planned"
)

// Errands are all that there are.
var Errands = []string{ActionDeploy, ActionPromote, ActionRollback, ActionWithdraw, ActionRefresh, errandUndo, errandProve, errandLog,
	errandPlanned}

// Errand is something that changes an environment, as it is asked for at the server.
type Errand struct {
	// Do is the action.
	Do          string `json:"do"`
	Environment string `json:"environment"`
	// From is where work comes from; Holds what whoever asks found that to hold, where the server can't reach it.
	From  string    `json:"from,omitempty"`
	Holds ledger.ID `json:"holds,omitzero"`
	// Commit is what is deployed, Mine of it the own objects alone; To the deployment that is gone back to.
	Commit ledger.ID `json:"commit,omitzero"`
	Mine   bool      `json:"mine,omitempty"`
	To     int64     `json:"to,omitempty"`
	// Number is that of a promotion that was planned; Remove takes the log of changes away.
	Number int64 `json:"number,omitempty"`
	Remove bool  `json:"remove,omitempty"`

	Deploy   DeployOptions     `json:"deploy,omitzero"`
	Promote  PromoteOptions    `json:"promote,omitzero"`
	Withdraw WithdrawOptions   `json:"withdraw,omitzero"`
	Refresh  RefreshOptions    `json:"refresh,omitzero"`
	Fill     map[string]string `json:"fill,omitempty"`
	// DataSteps is that of Mover; Follow the plan that is followed.
	DataSteps string    `json:"data_steps,omitempty"`
	Follow    *PlanFile `json:"follow,omitempty"`
	// Seen names the plan that was shown to whoever asks: another one is not carried out.
	Seen string `json:"seen,omitempty"`
}

// Sign says how far an errand is: the number of a step that is done, what is being done, a command that is about to run, or the
// table that is being read.
type Sign struct {
	Step  int    `json:"step,omitempty"`
	Told  string `json:"told,omitempty"`
	Gate  string `json:"gate,omitempty"`
	After string `json:"after,omitempty"`
	Table string `json:"table,omitempty"`
	Done  int    `json:"done,omitempty"`
	Of    int    `json:"of,omitempty"`
}

// Report is what came of an errand.
type Report struct {
	// Done says that the environment was changed, and proven; Kept that what was lost is kept in the chest.
	Done   bool          `json:"done,omitempty"`
	Kept   bool          `json:"kept,omitempty"`
	Commit ledger.Commit `json:"commit,omitzero"`
	After  *Aftermath    `json:"after,omitempty"`
	Gates  []GateResult  `json:"gates,omitempty"`
	// Outputs are what commands of gates wrote, by the gate.
	Outputs map[string]string `json:"outputs,omitempty"`
	Shipped []string          `json:"shipped,omitempty"`
	Made    *ledger.Commit    `json:"made,omitempty"`
	StillOn string            `json:"still_on,omitempty"`
	Filled  []string          `json:"filled,omitempty"`
	// Already says that nothing was to be done.
	Already   bool       `json:"already,omitempty"`
	Refreshed *Refreshed `json:"refreshed,omitempty"`
}

// elsewhere reports whether an environment is reached at the server, and not from here.
func (m *Mover) elsewhere(ctx context.Context, name string) bool {
	if m.Station == nil {
		return false
	}
	env, err := m.declaration(ctx, name)
	return err == nil && env.RunsAtServer()
}

// afar gives the driver of a target that is reached at the server.
func (m *Mover) afar(ctx context.Context, name string, s manifest.Site) (environment.Driver, error) {
	return environment.Afar(ctx, s.Target, func(ctx context.Context, q environment.Question) (environment.Answer, error) {
		return m.Station.Ask(ctx, Spot{name, s.Into, m.Fill}, q, m.Counting)
	})
}

// onlyThere refuses what can't be done to an environment that is reached at the server.
func (m *Mover) onlyThere(ctx context.Context, name string) error {
	if !m.elsewhere(ctx, name) {
		return nil
	}
	return fault.New(fault.Refused, "oaken deploy, promote, rollback, withdraw, refresh and drift --undo are done there. Nothing was changed.",
		"%s is reached at the server, and this is done from a workspace alone.", name)
}

// seen names what is about to be done to an environment: its steps, what they come to, what no commit knows, and the
// deployments so far. Where that is the same somebody who looked at it has seen it.
func (m *Mover) seen(ctx context.Context, d *Deployment) (string, error) {
	last, _, err := m.Project.Chest.LastDeployment(ctx, d.Environment.Name)
	if err != nil {
		return "", err
	}
	data, err := json.Marshal(struct {
		Last    int64
		Becomes string
		Steps   []environment.WrittenStep
		Unknown []string
	}{last.Number, environment.Sum(d.target), environment.WriteSteps(d.Plan.Steps), d.Unknown})
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), err
}

// sendOff has what was prepared done at the server, where the environment is let go first: it is taken there.
func (m *Mover) sendOff(ctx context.Context, d *Deployment, e Errand, told func(Sign)) (*Report, error) {
	var err error
	if e.Seen, err = m.seen(ctx, d); err != nil {
		return nil, err
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	e.Environment = d.Environment.Name
	r, err := m.send(ctx, e, told)
	if r != nil {
		d.Done, d.Kept, d.After = r.Done, r.Kept, r.After
	}
	return r, err
}

// send has an errand done.
func (m *Mover) send(ctx context.Context, e Errand, told func(Sign)) (*Report, error) {
	e.DataSteps = m.DataSteps
	if e.Fill == nil {
		e.Fill = m.Fill
	}
	if told == nil {
		told = func(Sign) {}
	}
	r, err := m.Station.Do(ctx, e, func(s Sign) {
		if s.Table != "" && m.Counting != nil {
			m.Counting(s.Table, s.Done, s.Of)
		}
		told(s)
	})
	m.Project.Chest.Stale()
	return r, err
}

// listening tells the callers of a deployment how far the server is.
func (o DeployOptions) listening() func(Sign) {
	return func(s Sign) {
		switch {
		case s.Step > 0 && o.Done != nil:
			o.Done(s.Step)
		case s.After != "" && o.After != nil:
			o.After(s.After)
		}
	}
}

// deployThere has a prepared deployment carried out at the server.
func (m *Mover) deployThere(ctx context.Context, d *Deployment, o DeployOptions) error {
	_, err := m.sendOff(ctx, d, Errand{Do: ActionDeploy, Commit: d.Commit.ID, Mine: d.Part, Deploy: o, Follow: o.follow}, o.listening())
	return err
}

func (m *Mover) undoThere(ctx context.Context, d *Deployment, o DeployOptions) error {
	_, err := m.sendOff(ctx, d, Errand{Do: errandUndo, Deploy: o}, o.listening())
	return err
}

// rollBackThere has a prepared rollback carried out at the server.
func (m *Mover) rollBackThere(ctx context.Context, r *Rollback, o DeployOptions) error {
	e := Errand{Do: ActionRollback, To: r.asked, Deploy: o, Fill: r.filled}
	got, err := m.sendOff(ctx, &r.Deployment, e, o.listening())
	if got != nil {
		r.Made, r.StillOn = got.Made, got.StillOn
	}
	return err
}

// withdrawThere has a prepared withdrawal carried out at the server.
func (m *Mover) withdrawThere(ctx context.Context, x *Withdrawal, o DeployOptions) error {
	seen, err := m.seen(ctx, &x.Deployment)
	if err == nil {
		err = x.Close()
	}
	if err != nil {
		return err
	}
	r, err := m.send(ctx, Errand{Do: ActionWithdraw, Environment: x.Environment.Name, Withdraw: x.asked, Deploy: o, Seen: seen},
		o.listening())
	if r != nil {
		x.Done, x.Kept, x.Commit = r.Done, r.Kept, r.Commit
	}
	if err != nil {
		return err
	}
	return m.Desk.Follow(ctx, x.draft.Branch, x.onto)
}

// promoteThere has a prepared promotion carried out at the server.
func (m *Mover) promoteThere(ctx context.Context, p *Promotion, o PromoteOptions) error {
	if p.Nothing() && !o.some() && o.follow == nil {
		return nil
	}
	if err := m.movable(ctx, p, o); err != nil {
		return err
	}
	seen, err := m.seen(ctx, p.Deployment)
	if err == nil {
		err = p.Close()
	}
	if err != nil {
		return err
	}
	o.Expect = p.Source.ID
	r, err := m.send(ctx, Errand{Do: ActionPromote, Environment: p.To.Name, From: p.From.Name, Holds: p.Source.ID, Promote: o,
		Follow: o.follow, Seen: seen}, func(s Sign) {
		switch {
		case s.Step > 0 && o.Done != nil:
			o.Done(s.Step)
		case s.Gate != "" && o.Gate != nil:
			o.Gate(s.Gate)
		}
	})
	if r == nil {
		return err
	}
	p.Commit, p.Shipped = r.Commit, r.Shipped
	p.Deployment.Done, p.Deployment.Kept, p.Deployment.After = r.Done, r.Kept, r.After
	if len(r.Gates) > 0 {
		p.Gates = r.Gates
	}
	for i, g := range p.Gates {
		p.Gates[i].Output = r.Outputs[g.Name]
	}
	if r.Commit.Depth == 0 {
		return err
	}
	if follow := m.Desk.Follow(ctx, p.Branch, p.onto); err == nil {
		err = follow
	}
	return err
}

// refreshThere has a refresh done at the server, which has to reach both environments.
func (m *Mover) refreshThere(ctx context.Context, to, from string, o RefreshOptions) (*Refreshed, error) {
	if !m.elsewhere(ctx, to) || !m.elsewhere(ctx, from) {
		return nil, fault.New(fault.Refused, "Say runs = \"server\" of both in oaken.toml, or runs = \"person\".",
			"One of %s and %s is reached at the server and the other is not, so that nothing can be copied between them.", from, to)
	}
	r, err := m.send(ctx, Errand{Do: ActionRefresh, Environment: to, From: from, Refresh: o}, func(s Sign) {
		switch {
		case s.Told != "" && o.Told != nil:
			o.Told(s.Told)
		case s.After != "" && o.After != nil:
			o.After(s.After)
		}
	})
	if r == nil {
		return nil, err
	}
	return r.Refreshed, err
}

// proveThere has what must pass after a deployment run at the server.
func (m *Mover) proveThere(ctx context.Context, name string, told func(string)) (*Aftermath, error) {
	r, err := m.send(ctx, Errand{Do: errandProve, Environment: name}, func(s Sign) {
		if s.After != "" && told != nil {
			told(s.After)
		}
	})
	if r == nil {
		return nil, err
	}
	return r.After, err
}

// prepareLogThere has the log of changes set up at the server.
func (m *Mover) prepareLogThere(ctx context.Context, name string, remove bool) (bool, error) {
	r, err := m.send(ctx, Errand{Do: errandLog, Environment: name, Remove: remove}, nil)
	return r != nil && r.Already, err
}
