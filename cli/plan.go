package cli

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// readPlan reads the file of a plan.
func (a *App) readPlan(name string) (*pipeline.PlanFile, error) {
	data, err := os.ReadFile(a.at(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Usage, "Check the path.", "There is no file %s.", name)
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "Check the path and the rights.", "The plan %s can't be read: %w.", name, err)
	}
	return pipeline.ReadPlan(bytes.NewReader(data))
}

// writePlan writes a plan into a file, and says what can be done with it.
func (a *App) writePlan(f *pipeline.PlanFile, name string) (*result.Plan, error) {
	data, err := f.Write()
	if err == nil {
		err = writeWhole(a.at(name), data)
	}
	if err != nil {
		return nil, fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", name, err)
	}
	if !a.JSON {
		a.Say("The plan is in %s: %s, sum %s. %s was not changed.", name, screen.Count(f.Steps(), "step"), shortSum(f.Sum()), f.Environment)
		a.Note("Next: oaken approve %s --plan %s, then %s --follow %s", quoteWord(f.Environment), quoteWord(name), planCall(f),
			quoteWord(name))
	}
	return &result.Plan{File: name, Sum: f.Sum(), Approved: []string{}}, nil
}

// planCall is the command that follows a plan.
func planCall(f *pipeline.PlanFile) string {
	if f.From != "" {
		return "oaken promote " + quoteWord(f.From) + " " + quoteWord(f.Environment)
	}
	return "oaken deploy " + quoteWord(f.Environment)
}

// shortSum is what people see of a sum.
func shortSum(sum string) string { return sum[:min(12, len(sum))] }

// approvePlan approves a plan as it is written.
func (a *App) approvePlan(ctx context.Context, w *workspace.Workspace, env, name, text string, withdraw bool) error {
	f, err := a.readPlan(name)
	if err != nil {
		return err
	}
	got, err := a.mover(w).ApprovePlan(ctx, env, f, text, withdraw)
	if err != nil {
		return err
	}
	if a.JSON {
		c, err := w.Chest.Resolve(ctx, f.Commit)
		if err != nil {
			return err
		}
		a.print(result.Approved{Environment: env, From: f.From, Commit: result.CommitOf(c), Person: w.Person, Withdrawn: withdraw,
			Settled: []result.Chosen{}, Gates: []result.Gate{}, Work: []result.Commit{}, Plan: &result.Plan{File: name, Sum: f.Sum(),
				Approved: result.List(got.By)}})
		return nil
	}
	if withdraw {
		a.Say("Your approval of the plan %s for %s is taken back.", shortSum(f.Sum()), env)
		return nil
	}
	a.Say("You approved the plan %s for %s: %s, to bring %s.", a.Paint(screen.Strong, shortSum(f.Sum())), env,
		screen.Count(f.Steps(), "step"), f.State)
	for _, loss := range f.Losses {
		a.Say("  %s", a.Paint(screen.Bad, "it loses "+loss))
	}
	number := 0
	for _, t := range f.Targets {
		for _, s := range t.Steps {
			number++
			a.Say("  %d. %s  %s  %s", number, planAddress(s.Address), screen.OneLine(s.What, 80), a.Paint(screen.Faint, "["+s.Effect+"]"))
		}
	}
	a.Note("It is for just this plan. Next: %s --follow %s", planCall(f), quoteWord(name))
	return nil
}

// planAddress writes the address of a step; a file of a plain folder is its path.
func planAddress(text string) string {
	at, err := element.ParseAddress(text)
	if err == nil && len(at.Steps) == 1 && at.Steps[0].Type == "file" {
		return at.Path + "/" + at.Steps[0].Key
	}
	return text
}

// followPlan carries out a deployment just as a plan says.
func (a *App) followPlan(ctx context.Context, w *workspace.Workspace, env string, o deployOptions) error {
	f, err := a.readPlan(o.follow)
	if err != nil {
		return err
	}
	m := a.mover(w)
	d, opts, err := m.Following(ctx, env, f)
	if err != nil {
		return err
	}
	defer d.Close()
	opts.Reason = o.reason
	o.ask = "Carry this out on " + env + ", as the plan says?"
	o.allowLoss, o.replace = opts.AllowLoss, opts.ReplaceDrift
	return a.carryOut(ctx, d, opts.Source, o, func(p pipeline.DeployOptions) error {
		opts.Done, opts.After = p.Done, p.After
		return m.Deploy(ctx, d, opts)
	})
}
