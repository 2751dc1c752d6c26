package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// showBy tells who is behind the objects that differ.
func (a *App) showBy(list []pipeline.Attribution) {
	if len(list) == 0 || a.Quiet {
		return
	}
	a.Say("Who changed what:")
	var rows [][]screen.Cell
	for _, b := range list {
		who, held, own := "", "", ""
		if b.Login != "" {
			who = b.Login + ", " + screen.Clock(b.At)
			if b.Program != "" {
				who += ", with " + screen.OneLine(b.Program, 30)
			}
		}
		if b.Holder != "" {
			held = "locked by " + b.Holder + " in " + b.Workspace
		}
		if b.Mine {
			own = "yours"
		}
		rows = append(rows, []screen.Cell{screen.Plain.Cell(b.Address), screen.Plain.Cell(who), screen.Faint.Cell(held),
			screen.Good.Cell(own)})
	}
	a.Table(a.Out, "  ", rows)
}

// sayUntracked lists what an environment has and is not tracked.
func (a *App) sayUntracked(list []string) {
	if len(list) == 0 {
		return
	}
	a.Note("Not tracked, and left as it is:")
	for _, u := range list {
		a.Note("  %s", u)
	}
}

type deployOptions struct {
	dryRun, allowLoss, mine, replace bool
	script, reason                   string
	fill                             []string
	dataSteps                        string
	ask                              string // the question on a terminal
	plan, follow                     string // files of plans
	writes                           func() (*pipeline.PlanFile, error)
}

// values reads the values of --fill.
func (o *deployOptions) values() (map[string]string, error) {
	out := map[string]string{}
	for _, f := range o.fill {
		name, v, ok := strings.Cut(f, "=")
		if !ok || name == "" || v == "" {
			return nil, fault.New(fault.Usage, "It is written --fill TABLE.COLUMN=VALUE, with VALUE as SQL.",
				"%q gives no value for a column.", f)
		}
		out[name] = v
	}
	return out, nil
}

// tell lets a mover know what the options say of rows.
func (o *deployOptions) tell(m *pipeline.Mover) (err error) {
	switch o.dataSteps {
	case "", pipeline.StepsDone, pipeline.StepsDue:
	default:
		return fault.New(fault.Usage, "It is --data-steps done, or --data-steps due.", "%q says nothing of data steps.", o.dataSteps)
	}
	m.DataSteps = o.dataSteps
	m.Fill, err = o.values()
	return err
}

func (o *deployOptions) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.dryRun, "dry-run", false, "show the statements and change nothing")
	cmd.Flags().BoolVar(&o.allowLoss, "allow-loss", false, "consent to the loss of data; it is saved first")
	cmd.Flags().StringVar(&o.script, "script", "", "write the statements to `FILE` and change nothing")
	cmd.Flags().StringArrayVar(&o.fill, "fill", nil, "give a column that takes no null a value: `TABLE.COLUMN=SQL`")
	cmd.Flags().StringVar(&o.dataSteps, "data-steps", "", "where nothing is recorded, take data steps as `done|due`")
	_ = cmd.RegisterFlagCompletionFunc("data-steps", cobra.FixedCompletions([]string{pipeline.StepsDone, pipeline.StepsDue},
		cobra.ShellCompDirectiveNoFileComp))
	cmd.MarkFlagsMutuallyExclusive("dry-run", "script")
	_ = cmd.MarkFlagFilename("script", "sql")
}

// planFlags are those of commands that write plans, and follow them.
func (o *deployOptions) planFlags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.plan, "plan", "", "write the plan to `FILE`, to be approved and followed; change nothing")
	cmd.Flags().StringVar(&o.follow, "follow", "", "carry out the plan in `FILE`, just as it is written, or nothing")
	cmd.MarkFlagsMutuallyExclusive("dry-run", "script", "plan", "follow")
	for _, name := range []string{"allow-loss", "fill", "data-steps"} { // the plan says it
		cmd.MarkFlagsMutuallyExclusive("follow", name)
	}
	for _, name := range []string{"plan", "follow"} {
		_ = cmd.MarkFlagFilename(name, "json")
	}
}

func newDeploy(a *App) *cobra.Command {
	var o deployOptions
	cmd := &cobra.Command{
		Use:   "deploy ENV [STATE]",
		Short: "Make an environment hold what a state declares",
		Long: `Compute the statements that make an environment hold what a state declares, show
them, and carry them out in one transaction. Before it is committed, the result
is read back and must be what was declared. On a terminal you are asked first; --yes
answers. What somebody changed there, and no commit knows, is named and stops it:
keep it with oaken capture, or consent with --replace-drift. STATE is the newest
commit of the workspace's branch unless it is named. A step that would lose data is
refused without --allow-loss, and what is lost is saved first; oaken rollback brings
it back.
With --dry-run STATE may be work: the workspace as it is, not committed yet.

Where moves of the pipeline lead to an environment, it takes work by oaken promote
alone, once something is in it; who may override gates can deploy with --reason.

--plan FILE writes down what would be done, against what: a file to read, and to
approve with oaken approve ENV --plan FILE. --follow FILE then does just that, or
nothing where the target, what is known of it, or the file is another one by now.

On a shared database, --mine deploys only the objects that you have locked or
changed there, and leaves all others as they are.`,
		Example: "  oaken deploy test --dry-run\n  oaken deploy test work --dry-run\n  oaken deploy test release:spring\n" +
			"  oaken deploy live --plan plan.json",
		GroupID:           groupEnvironments,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeDeploy,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				from := w.Branch
				if o.follow != "" {
					if len(args) == 2 {
						return usage(cmd, "The plan says what is deployed.")
					}
					return a.followPlan(cmd.Context(), w, args[0], o)
				}
				if len(args) == 2 {
					from = args[1]
				}
				if from == "work" {
					return a.deployWork(cmd.Context(), w, args[0], o)
				}
				c, err := a.asked(w).Commit(cmd.Context(), from)
				if err != nil {
					return err
				}
				return a.deploy(cmd.Context(), w, args[0], c, from, o)
			})
		},
	}
	o.flags(cmd)
	o.planFlags(cmd)
	cmd.Flags().StringVar(&o.reason, "reason", "", "why an environment that takes promotions alone is deployed to, `TEXT`")
	_ = cmd.RegisterFlagCompletionFunc("reason", cobra.NoFileCompletions)
	cmd.Flags().BoolVar(&o.replace, "replace-drift", false, "consent to changing what no commit knows; it is kept first")
	cmd.Flags().BoolVar(&o.mine, "mine", false, "deploy only objects that you have locked or changed")
	cmd.MarkFlagsMutuallyExclusive("mine", "plan", "follow")
	cmd.MarkFlagsMutuallyExclusive("replace-drift", "follow")
	return cmd
}

func (a *App) completeDeploy(cmd *cobra.Command, args []string, to string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeEnvironments(cmd, args, to)
	}
	return a.completeStates(cmd, args, to)
}

func (a *App) deploy(ctx context.Context, w *workspace.Workspace, env string, c ledger.Commit, source string, o deployOptions) error {
	m := a.mover(w)
	var err error
	if err = o.tell(m); err != nil {
		return err
	}
	d, err := m.Prepare(ctx, env, c, o.mine)
	if err != nil {
		return err
	}
	defer d.Close()
	if o.dryRun || o.script != "" || o.plan != "" {
		defer a.showObstacles(m.Obstacles(ctx, d, pipeline.DeployOptions{AllowLoss: o.allowLoss, ReplaceDrift: o.replace,
			Reason: o.reason}))
	} else if err := m.Stands(ctx, d, pipeline.DeployOptions{AllowLoss: o.allowLoss, ReplaceDrift: o.replace,
		Reason: o.reason}); err != nil {
		if !a.JSON {
			a.showPlan(d, source)
		}
		return err
	}
	o.ask = "Carry this out on " + env + "?"
	o.writes = func() (*pipeline.PlanFile, error) {
		return m.PlanOf(ctx, d, pipeline.DeployOptions{AllowLoss: o.allowLoss, ReplaceDrift: o.replace, Source: source})
	}
	return a.carryOut(ctx, d, source, o, func(p pipeline.DeployOptions) error { return m.Deploy(ctx, d, p) })
}

// deployWork shows what deploying the workspace as it is would do.
func (a *App) deployWork(ctx context.Context, w *workspace.Workspace, env string, o deployOptions) error {
	if !o.dryRun && o.script == "" || o.plan != "" {
		return fault.New(fault.Refused, "Commit it first; or look at what it would do with --dry-run.",
			"What is not committed can't be deployed: nobody could tell later what %s holds.", env)
	}
	m := a.mover(w)
	var err error
	if err = o.tell(m); err != nil {
		return err
	}
	d, err := m.Foresee(ctx, env, w.Work(), "work", o.mine)
	if err != nil {
		return err
	}
	defer d.Close()
	return a.carryOut(ctx, d, "work", o, nil)
}

// carryOut shows a deployment, and does it or what the options say instead.
func (a *App) carryOut(ctx context.Context, d *pipeline.Deployment, source string, o deployOptions,
	do func(pipeline.DeployOptions) error) error {
	var plan *result.Plan
	if !a.JSON {
		a.showPlan(d, source)
	}
	switch {
	case o.script != "":
		script, err := scriptText(ctx, d)
		if err != nil {
			return err
		}
		if err := writeWhole(a.at(o.script), []byte(script)); err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", o.script, err)
		}
		a.Say("The statements are in %s; %s was not changed.", o.script, d.Environment.Name)
	case o.plan != "":
		f, err := o.writes()
		if err == nil {
			plan, err = a.writePlan(f, o.plan)
		}
		if err != nil {
			return err
		}
	case o.dryRun:
		a.Say("Nothing was changed: this was a dry run.")
	case o.ask != "" && len(d.Plan.Steps) > 0 && !a.yes && a.Keys != nil && !a.JSON && !a.Ask(o.ask):
		a.Say("Nothing was changed.")
	default:
		show := a.Progress()
		err := do(pipeline.DeployOptions{AllowLoss: o.allowLoss, ReplaceDrift: o.replace, Source: source, Reason: o.reason,
			After: a.tellsAfter, Done: func(step int) {
				if show != nil {
					show("running steps", step, len(d.Plan.Steps))
				}
			}})
		a.EndProgress()
		a.showAfter(d.After)
		if err != nil {
			return err
		}
		a.showDeployed(d)
	}
	if a.JSON {
		out := result.DeployedOf(d, source)
		out.Plan = plan
		a.print(out)
	}
	return nil
}

func (a *App) showPlan(d *pipeline.Deployment, source string) {
	label := d.Label
	if source != "" && source != label {
		label += " (" + source + ")"
	}
	target := environment.Shown(d.Environment.Target)
	if n := len(d.Environment.Also); n > 0 {
		target += " and " + screen.Count(n, "more target")
	}
	if d.There {
		target += ", by the server"
	}
	a.Say("%s → %s, %s", label, a.Paint(screen.Strong, d.Environment.Name), target)
	if !d.Unfinished.IsZero() {
		a.Say("  The deployment that began on %s did not end: what it did is there, and these steps go on from it. oaken rollback %s "+
			"takes it back.", screen.Clock(d.Unfinished), d.Environment.Name)
	}
	if len(d.Plan.Steps) == 0 {
		a.Say("  nothing to do")
	}
	a.showSteps(d.Plan.Steps, "  ")
	a.showStays(d.Plan)
	if len(d.Unknown) > 0 {
		a.Say("  %s has what no commit knows, and this would change it:", d.Environment.Name)
		for _, address := range d.Unknown {
			a.Say("    %s", address)
		}
	}
}

// showStays names data steps of which what they did stays.
func (a *App) showStays(p *environment.Plan) {
	if len(p.Stays) > 0 {
		a.Say("  What these data steps did stays, because no way back is written in them: %s.", strings.Join(p.Stays, ", "))
	}
	if len(p.Tidied) > 0 {
		a.Say("  These data steps have run and their files are gone. That counts as tidied away, and what they did stays: %s.",
			strings.Join(p.Tidied, ", "))
	}
}

// showObstacles lists what stands in the way of a deployment.
func (a *App) showObstacles(list []error) {
	if a.JSON || len(list) == 0 {
		return
	}
	a.Say("In the way:")
	for _, err := range list {
		a.Say("  %s", err)
		if hint := fault.HintOf(err); hint != "" {
			a.Say("    %s", hint)
		}
	}
}

// showSteps lists steps with what they cost and the statements that do them.
func (a *App) showSteps(steps []environment.Step, indent string) {
	for i, s := range steps {
		t := screen.Faint
		if s.Loss != "" {
			t = screen.Bad
		}
		effect := string(s.Effect)
		if s.Loss != "" {
			effect += ": " + s.Loss
		}
		a.Say("%s%d. %s  %s  %s", indent, i+1, stepName(s), screen.OneLine(s.What, 100), a.Paint(t, "["+effect+"]"))
		for _, stmt := range s.Statements {
			a.Say("%s", a.Paint(screen.Faint, indent+"     "+strings.ReplaceAll(stmt, "\n", "\n"+indent+"     ")+";"))
		}
	}
}

// stepName writes what a step is about: a file of a plain folder by its path.
func stepName(s environment.Step) string {
	if len(s.Address.Steps) == 1 && s.Address.Steps[0].Type == "file" && s.Into != "" {
		return s.Into + "/" + s.Address.Steps[0].Key
	}
	return objectName(s.Address)
}

// objectName writes the address of an object without its environment's folder.
func objectName(address element.Address) string {
	return strings.TrimPrefix(address.InPath("x").String(), "x::")
}

func (a *App) showDeployed(d *pipeline.Deployment) {
	if d.Saved != "" {
		a.Say("Saved before: %s", d.Saved)
	}
	if d.Kept {
		a.Say("What was lost is kept in the chest: oaken rollback %s brings it back.", fault.Word(d.Environment.Name))
	}
	done := "Nothing had to be done"
	if n := len(d.Plan.Steps); n > 0 {
		done = screen.Count(n, "step") + " done"
		if len(d.Plan.Begin) > 0 && !d.Plan.Steps[0].Before && !d.Plan.Steps[n-1].After {
			done += " in one transaction"
		}
	}
	if d.Part {
		a.Say("%s. Your objects in %s are as %s declares them; the others were left.", done, d.Environment.Name, d.Label)
		return
	}
	a.Say("%s. %s and %s agree.", done, d.Environment.Name, d.Label)
}

// scriptText writes the statements of a deployment, target by target.
func scriptText(ctx context.Context, d *pipeline.Deployment) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "-- Brings %s to %s.\n", d.Environment.Name, d.Label)
	if len(d.Plan.Parts) == 0 {
		err := scriptPlan(ctx, &b, d.Plan)
		return b.String(), err
	}
	for i, s := range d.Environment.Sites() {
		fmt.Fprintf(&b, "\n-- Target %d: %s, which holds %s\n", i+1, environment.Shown(s.Target), s.Into)
		part := d.Plan.Parts[i]
		if len(part.Steps) == 0 {
			b.WriteString("-- nothing to do\n")
			continue
		}
		if err := scriptPlan(ctx, &b, part); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

// scriptPlan writes the statements of one target. First of all it makes sure that the target is
// as it was, in the transaction where there is one.
func scriptPlan(ctx context.Context, b *strings.Builder, p *environment.Plan) error {
	var guard []string
	if p.Guard != nil {
		var err error
		if guard, err = p.Guard(ctx); err != nil {
			return fault.New(fault.Unreachable, "Check the connection and the rights of the user.",
				"The state that the script starts from can't be read: %w.", err)
		}
	}
	write := func(statements []string) {
		for _, sql := range statements {
			b.WriteString(p.Ended(sql) + "\n")
		}
	}
	write(p.Opening)
	begun, ended := false, false
	for i, s := range p.Scripted() {
		if s.Before && i == 0 {
			b.WriteString("\n")
			write(guard)
			guard = nil
		}
		if !s.Before && !begun {
			begun = true
			b.WriteString("\n")
			write(p.Begin)
			write(guard)
		}
		if s.After && !ended {
			ended = true
			b.WriteString("\n")
			write(p.Closing)
		}
		fmt.Fprintf(b, "\n-- %s: %s [%s]\n", objectName(s.Address), s.What, s.Effect)
		if s.Loss != "" {
			fmt.Fprintf(b, "-- LOSES DATA: %s\n", s.Loss)
		}
		for _, stmt := range p.Script(s) {
			b.WriteString(stmt + "\n")
		}
	}
	if !ended {
		b.WriteString("\n")
		write(p.Closing)
	}
	return nil
}
