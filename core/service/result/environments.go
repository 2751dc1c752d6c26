package result

import (
	"oakenchest/core/environment"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
	"oakenchest/core/project"
	"oakenchest/core/state"
)

// Environment is a declared environment. Secrets in targets are not shown.
type Environment struct {
	Name   string   `json:"name"`
	Target string   `json:"target"`
	Into   string   `json:"into"`
	Tier   string   `json:"tier"`
	Lane   string   `json:"lane"`
	Branch string   `json:"branch"`
	Also   []Target `json:"also"`
	// Runs says where it is reached from, person or server, as it is declared; empty for the usual: live ones from the server,
	// where one keeps the project.
	Runs string `json:"runs"`
}

// Target is a further target of an environment.
type Target struct {
	Target string `json:"target"`
	Into   string `json:"into"`
}

// EnvironmentOf gives an environment.
func EnvironmentOf(e manifest.Environment) Environment {
	out := Environment{e.Name, environment.Shown(e.Target), e.Into, string(e.Tier), e.Lane, e.Branch, []Target{}, string(e.Runs)}
	for _, s := range e.Also {
		out.Also = append(out.Also, Target{environment.Shown(s.Target), s.Into})
	}
	return out
}

// EnvironmentChanged is an environment that was declared, has another name, or is declared no more.
type EnvironmentChanged struct {
	Environment *Environment `json:"environment,omitempty"`
	// Renamed is the former name.
	Renamed string `json:"renamed,omitempty"`
	// Removed is one that is no more; Dropped says that its database is gone too, Saved where is what was lost.
	Removed string  `json:"removed,omitempty"`
	Dropped *bool   `json:"dropped,omitempty"`
	Saved   *string `json:"saved,omitempty"`
}

// Schema names it.
func (EnvironmentChanged) Schema() string { return "oaken.env/1" }

// Environments lists environments.
type Environments struct {
	Environments []EnvironmentEntry `json:"environments"`
}

// EnvironmentEntry is one of them.
type EnvironmentEntry struct {
	Environment
	// Deployed is what was deployed last.
	Deployed *LastDeployment `json:"deployed,omitempty"`
	// Lacks lists the commits of its branch that it has not.
	Lacks []Commit `json:"lacks"`
}

// LastDeployment is what was deployed, when and by whom.
type LastDeployment struct {
	State  string `json:"state"`
	Commit string `json:"commit"`
	Author string `json:"author"`
	Time   string `json:"time"`
}

// Schema names it.
func (Environments) Schema() string { return "oaken.environments/1" }

// Captured is what an environment was found to hold.
type Captured struct {
	Environment string `json:"environment"`
	Objects     int    `json:"objects"`
	// Files lists what was written here.
	Files   []string `json:"files"`
	Changes []Change `json:"changes"`
	Rescued string   `json:"rescued"`
	// Untracked lists what is there and in no file, Unseen what is kept since the user may not see it.
	Untracked []string  `json:"untracked"`
	Unseen    []string  `json:"unseen"`
	Renamed   []Renamed `json:"renamed"`
	// Commit is what was recorded; null for nothing.
	Commit *Commit `json:"commit"`
	// By says who changed what, as far as the engine knows.
	By []Attribution `json:"by"`
	// Record is what it was known to hold, Found what it was found to hold instead.
	Record    *Commit    `json:"record"`
	Found     *Commit    `json:"found"`
	Branch    string     `json:"branch"`
	Merged    *Commit    `json:"merged"`
	Conflicts []Conflict `json:"conflicts"`
	// Lacks lists the commits of the branch that it has not.
	Lacks   []Commit `json:"lacks"`
	Pending bool     `json:"pending"`
	// Review is the number of the review in which it is, where the branch takes reviews alone; else 0.
	Review int64 `json:"review"`
}

// Renamed is something that seems to have another name now.
type Renamed struct {
	// Table is empty for a table itself.
	Table string `json:"table"`
	From  string `json:"from"`
	To    string `json:"to"`
	// Sure says that the file says so.
	Sure bool `json:"sure"`
}

// Attribution says who changed an object.
type Attribution struct {
	Address   string  `json:"address"`
	Login     string  `json:"login"`
	Program   string  `json:"program"`
	Time      *string `json:"time"`
	Holder    string  `json:"holder"`
	Workspace string  `json:"workspace"`
	Mine      bool    `json:"mine"`
}

// Schema names it.
func (Captured) Schema() string { return "oaken.capture/1" }

// CapturedOf gives a capture, which is in a review, or in none for 0.
func CapturedOf(name string, c *pipeline.Capture, number int64) Captured {
	out := Captured{
		Environment: name, Objects: c.Objects, Files: List(c.Written), Changes: ChangesOf(c.Differences), Rescued: c.Rescued,
		Untracked: List(c.Untracked),
		Unseen:    List(c.Unseen), By: each(c.By, attribution), Record: OptionalCommit(c.Record), Branch: c.Branch,
		Merged:    OptionalCommit(c.Merged),
		Conflicts: ConflictsOf(c.Conflicts), Lacks: CommitsOf(c.Lacks), Pending: c.Pending, Review: number,
		Renamed: each(c.Renamed, func(r environment.Rename) Renamed { return Renamed{r.Table, r.From, r.To, r.Sure} }),
	}
	switch {
	case c.Recorded:
		out.Commit = OptionalCommit(&c.Commit)
	case c.Commit.Depth > 0:
		out.Found = OptionalCommit(&c.Commit)
	}
	return out
}

func attribution(b pipeline.Attribution) Attribution {
	return Attribution{b.Address, b.Login, b.Program, optionalTime(b.At), b.Holder, b.Workspace, b.Mine}
}

// Deployed is a deployment, or the plan of one.
type Deployed struct {
	Environment string `json:"environment"`
	// Commit is what was deployed; null where it is none.
	Commit *Commit `json:"commit"`
	Source string  `json:"source"`
	Steps  []Step  `json:"steps"`
	Done   bool    `json:"done"`
	// Saved is where what was lost is kept.
	Saved string `json:"saved"`
	// Unknown lists addresses of what no commit knows and this changes.
	Unknown []string `json:"unknown"`
	Stays   []string `json:"stays"`
	// Tidied lists data steps of which what they did stays: no way back is written, or the file is gone.
	Tidied []string `json:"tidied"`
	// Plan is the plan that was written or followed; null for none.
	Plan *Plan `json:"plan"`
	// After is what came of the commands that must pass afterwards; null where there are none.
	After *After `json:"after"`
}

// After is what came of the commands that must pass after a deployment.
type After struct {
	// Outcome is passed, in doubt, rolled back or pending.
	Outcome  string         `json:"outcome"`
	Commands []AfterCommand `json:"commands"`
}

// AfterCommand is what one of them said.
type AfterCommand struct {
	Name         string `json:"name"`
	Passed       bool   `json:"passed"`
	Said         string `json:"said"`
	Milliseconds int64  `json:"milliseconds"`
	// Output is the end of what it wrote.
	Output string `json:"output"`
}

// AfterOf gives what came of them.
func AfterOf(a *pipeline.Aftermath) *After {
	if a == nil {
		return nil
	}
	return &After{a.Outcome, each(a.Results, func(r pipeline.AfterResult) AfterCommand {
		return AfterCommand{r.Name, r.Passed, r.Said, r.Took, r.Output}
	})}
}

// Proved is what came of running them once more.
type Proved struct {
	Environment string `json:"environment"`
	After       *After `json:"after"`
}

// Schema names it.
func (Proved) Schema() string { return "oaken.prove/1" }

// Plan is a plan as a file.
type Plan struct {
	File string `json:"file"`
	// Sum names it by all that it says.
	Sum string `json:"sum"`
	// Approved lists who approves it as it is written.
	Approved []string `json:"approved"`
}

// Step is a step of a deployment.
type Step struct {
	Address string `json:"address"`
	What    string `json:"what"`
	// Effect is what it costs, such as instant or rewrites.
	Effect string `json:"effect"`
	// Loss says which data it loses; empty for none.
	Loss       string   `json:"loss"`
	Statements []string `json:"statements"`
}

// Schema names it.
func (Deployed) Schema() string { return "oaken.deploy/1" }

// DeployedOf gives a deployment of a source.
func DeployedOf(d *pipeline.Deployment, source string) Deployed {
	out := Deployed{Environment: d.Environment.Name, Source: source, Done: d.Done, Saved: d.Saved, Unknown: List(d.Unknown),
		Stays: List(d.Plan.Stays), Tidied: List(d.Plan.Tidied), After: AfterOf(d.After)}
	out.Steps = each(d.Plan.Steps, func(s environment.Step) Step {
		into := s.Into
		if into == "" {
			into = d.Environment.Into
		}
		return Step{s.Address.InPath(into).String(), s.What, string(s.Effect), s.Loss, List(s.Statements)}
	})
	if d.Commit.ID != (ledger.ID{}) {
		out.Commit = OptionalCommit(&d.Commit)
	}
	return out
}

// StatementsOf gives the statements of steps.
func StatementsOf(steps []environment.Step) []string {
	out := []string{}
	for _, s := range steps {
		out = append(out, s.Statements...)
	}
	return out
}

// Lost is what a deployment has lost, written to files.
type Lost struct {
	Environment string   `json:"environment"`
	Folder      string   `json:"folder"`
	Files       []string `json:"files"`
}

// Schema names it.
func (Lost) Schema() string { return "oaken.lost/1" }

// Deployments lists deployments.
type Deployments struct {
	Deployments []Record `json:"deployments"`
}

// Record is what is recorded of a deployment.
type Record struct {
	Number      int64  `json:"number"`
	Environment string `json:"environment"`
	State       string `json:"state"`
	Commit      string `json:"commit"`
	Author      string `json:"author"`
	Time        string `json:"time"`
	Source      string `json:"source"`
	Steps       int    `json:"steps"`
	// Action is deploy, promote, backfill, withdraw, settle or found.
	Action       string   `json:"action"`
	Origin       string   `json:"origin"`
	Lane         string   `json:"lane"`
	Items        []string `json:"items"`
	Gates        []Gate   `json:"gates"`
	Milliseconds int64    `json:"milliseconds"`
	Reason       string   `json:"reason"`
	// Undone says who took it back; null for nobody.
	Undone *Undone `json:"undone"`
}

// Undone is who took a deployment back.
type Undone struct {
	Author string `json:"author"`
	Time   string `json:"time"`
}

// Schema names it.
func (Deployments) Schema() string { return "oaken.deployments/1" }

// RecordOf gives what is recorded of a deployment.
func RecordOf(r pipeline.Record) Record {
	out := Record{
		Number: r.Number, Environment: r.Environment, State: project.Label(r.Commit), Commit: r.Deployment.Commit.String(),
		Author: r.Author, Time: Time(r.Time),
		Source: r.Source, Steps: r.Deployment.Steps, Action: "deploy", Items: []string{}, Gates: GatesOf(r.Gates),
	}
	if acc := r.Account; acc != nil {
		out.Action, out.Origin, out.Lane, out.Items, out.Milliseconds, out.Reason = acc.Action, acc.Origin, acc.Lane, List(acc.Items),
			acc.Took.Milliseconds(), acc.Reason
	}
	if r.Undone != nil {
		out.Undone = &Undone{r.Undone.Author, Time(r.Undone.Time)}
	}
	return out
}

// Deployment is what is recorded of one deployment, with all that it did.
type Deployment struct {
	Record
	Statements []Step   `json:"statements"`
	Changes    []Change `json:"changes"`
	// Outputs are what gates' commands wrote, by gate.
	Outputs map[string]string `json:"outputs"`
	// Plan is the plan that was followed; null for none.
	Plan *Plan `json:"plan"`
	// After is what came of the commands that must pass afterwards; null for none.
	After *After `json:"after"`
}

// DeploymentOf gives all that is recorded of a deployment.
func DeploymentOf(r pipeline.Record) Deployment {
	out := Deployment{Record: RecordOf(r), Changes: ChangesOf(r.Differences), Outputs: map[string]string{}}
	out.Statements = each(r.Steps,
		func(s pipeline.StepRecord) Step { return Step{s.Address, s.What, s.Effect, s.Loss, List(s.Statements)} })
	for _, g := range r.Gates {
		if g.Output != "" {
			out.Outputs[g.Name] = g.Output
		}
	}
	out.After = AfterOf(r.After)
	if r.Plan != nil {
		out.Plan = &Plan{Sum: r.Plan.Sum(), Approved: List(r.PlanBy)}
	}
	return out
}

// Schema names it.
func (Deployment) Schema() string { return "oaken.deployment/1" }

// Attempts lists what was refused, or failed.
type Attempts struct {
	Attempts []Attempt `json:"attempts"`
}

// Attempt is one of them.
type Attempt struct {
	Environment string `json:"environment"`
	Action      string `json:"action"`
	Author      string `json:"author"`
	Workspace   string `json:"workspace"`
	Time        string `json:"time"`
	// Outcome is refused or failed.
	Outcome string `json:"outcome"`
	Said    string `json:"said"`
}

// Schema names it.
func (Attempts) Schema() string { return "oaken.attempts/1" }

// AttemptOf gives an attempt.
func AttemptOf(x ledger.Attempt) Attempt {
	return Attempt{x.Environment, x.Action, x.Person, x.Workspace, Time(x.Time), x.Outcome, x.Said}
}

// Report is a report that was written.
type Report struct {
	Deployments int      `json:"deployments"`
	Files       []string `json:"files"`
}

// Schema names it.
func (Report) Schema() string { return "oaken.report/1" }

// Drifts is how environments differ from what was deployed to them.
type Drifts struct {
	Environments []Drift `json:"environments"`
}

// Drift is how one does.
type Drift struct {
	Environment string `json:"environment"`
	// Deployed is what was deployed last; null for nothing.
	Deployed *string  `json:"deployed"`
	Changes  []Change `json:"changes"`
	// Undo lists statements that take it back.
	Undo []string `json:"undo"`
	// Error says why it could not be looked at.
	Error string `json:"error,omitempty"`
}

// Schema names it.
func (Drifts) Schema() string { return "oaken.drift/1" }

// DriftOf gives how an environment differs.
func DriftOf(d *pipeline.Drift) Drift {
	out := Drift{Environment: d.Environment.Name, Changes: ChangesOf(d.Differences), Undo: StatementsOf(d.Undo)}
	if d.Deployed != nil {
		label := project.Label(*d.Deployed)
		out.Deployed = &label
	}
	return out
}

// Kept is what was changed by hand, and kept on a branch.
type Kept struct {
	Environment string `json:"environment"`
	Branch      string `json:"branch"`
	Commit      Commit `json:"commit"`
}

// Schema names it.
func (Kept) Schema() string { return "oaken.keep/1" }

// Settled is a chest and an environment that were brought together, or how they would be.
type Settled struct {
	Environment string          `json:"environment"`
	Objects     []SettledObject `json:"objects"`
	Statements  []string        `json:"statements"`
	Done        bool            `json:"done"`
	Files       []string        `json:"files"`
	Rescued     string          `json:"rescued"`
	Saved       string          `json:"saved"`
	Commit      *Commit         `json:"commit"`
}

// SettledObject is an object that differs.
type SettledObject struct {
	Address     string `json:"address"`
	Chest       string `json:"chest"`
	Environment string `json:"environment"`
	// Direction says which side is brought to the other.
	Direction string   `json:"direction"`
	Changes   []Change `json:"changes"`
}

// Schema names it.
func (Settled) Schema() string { return "oaken.settle/1" }

// SettledOf gives a settlement; done is nil before it is carried out.
func SettledOf(s *pipeline.Settlement, done *pipeline.Outcome) Settled {
	out := Settled{Environment: s.Plan.Environment, Objects: []SettledObject{}, Statements: []string{}, Done: done != nil,
		Files: []string{}}
	for _, o := range s.Plan.Objects {
		out.Objects = append(out.Objects, SettledObject{o.Address, o.Chest, o.Environment, string(o.Direction),
			ChangesOf([]state.Difference{{Changes: o.Changes}})})
	}
	if s.Deployment != nil {
		out.Statements, out.Saved = StatementsOf(s.Deployment.Plan.Steps), s.Deployment.Saved
	}
	if done != nil {
		out.Files, out.Rescued = List(done.Written), done.Rescued
	}
	return out
}

// Rows lists the files of rows that were written or removed.
type Rows struct {
	Files []string `json:"files"`
}

// Schema names it.
func (Rows) Schema() string { return "oaken.rows/1" }

// Prepared is an environment that records who changes it, or no more.
type Prepared struct {
	Environment string `json:"environment"`
	Log         bool   `json:"log"`
	Changed     bool   `json:"changed"`
}

// Schema names it.
func (Prepared) Schema() string { return "oaken.prepare/1" }

// Verified says which states are the same.
type Verified struct {
	// Same says that all are.
	Same  bool   `json:"same"`
	Pairs []Pair `json:"pairs"`
}

// Pair is two states.
type Pair struct {
	From    string   `json:"from"`
	To      string   `json:"to"`
	Same    bool     `json:"same"`
	Changes int      `json:"changes"`
	Paths   []string `json:"paths"`
	// Unread lists sentences of what can't be read.
	Unread []string `json:"unread"`
	// Failure says why they could not be compared.
	Failure string `json:"failure"`
}

// Schema names it.
func (Verified) Schema() string { return "oaken.verify/1" }

// Refreshed is what came of making an environment a copy of another.
type Refreshed struct {
	Environment string `json:"environment"`
	From        string `json:"from"`
	// Commit is what it held then, Again what was deployed to it once more; null for nothing.
	Commit Commit  `json:"commit"`
	Again  *Commit `json:"again"`
	// Lacks lists work that it had and has no more.
	Lacks []Commit `json:"lacks"`
	// Masked lists the columns whose values were masked, Saved the folder in which what it held is kept.
	Masked []string `json:"masked"`
	Saved  string   `json:"saved"`
	// After is what came of the commands that must pass after a deployment; null where nothing was deployed again, or there are none.
	After *After `json:"after"`
}

// Schema names it.
func (Refreshed) Schema() string { return "oaken.refresh/1" }

// RefreshedOf gives what came of it.
func RefreshedOf(r *pipeline.Refreshed) Refreshed {
	out := Refreshed{Environment: r.To.Name, From: r.From.Name, Commit: CommitOf(r.Has), Lacks: CommitsOf(r.Lacks), Masked: List(r.Masked),
		Saved: r.Saved, After: AfterOf(r.After)}
	if r.Again.Depth > 0 {
		out.Again = OptionalCommit(&r.Again)
	}
	return out
}
