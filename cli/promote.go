package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type promoteOptions struct {
	deployOptions
	item, at, expect, lane string
	paths                  []string
	withNeeded, again      bool
	override               []string
	full                   bool
	settle, abandon        bool
}

func newPromote(a *App) *cobra.Command {
	var o promoteOptions
	cmd := &cobra.Command{
		Use:   "promote FROM [TO]",
		Short: "Move what one environment has into the next",
		Long: `Move what one environment has into the next one: TO may be left out where one move
alone leads on from FROM. It shows the work that moves, what becomes different, the
statements, how the gates stand and what would be lost. Then it merges the work into
the branch of TO, where that is another one, deploys it, proves the result, and
records it. All of it happens or nothing; after a kill, the same command goes on.

FROM must hold what a commit declares; what nobody has committed is not promoted.
--item KEY or --path PATH takes some of the work only, and names what that depends
on. What was taken back from TO comes again with --again alone. A gate that is shut
can be overridden by those who may, with a reason. --at writes what a scheduler runs,
for just the work that is there now.

Where the work is in conflict with what the branch of TO has, --settle begins to
settle that in the promotion: oaken resolve --to TO does it, approvals are then for
what comes of it, and nothing enters the branch before the gates are open. --abandon
gives the choices up.

--plan FILE writes down all that would be done, for somebody to read and to approve
(oaken approve TO --plan FILE); --follow FILE does just that, or nothing.`,
		Example: "  oaken promote dev test --dry-run\n  oaken promote dev test\n" +
			"  oaken promote test live --item AQ-31 --with-needed\n  oaken promote dev test --settle\n" +
			"  oaken promote rehearsal --at \"2026-12-01 22:00\"",
		GroupID:           groupPipeline,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 && args[0] == args[1] {
				return usage(cmd, "FROM and TO are the same environment.")
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.promote(cmd.Context(), w, args, o) })
		},
	}
	o.flags(cmd)
	o.planFlags(cmd)
	f := cmd.Flags()
	f.StringVar(&o.lane, "lane", "", "say for which lane it is done, `NAME`")
	f.StringVar(&o.item, "item", "", "move only the work for the item `KEY`")
	f.StringSliceVar(&o.paths, "path", nil, "move only the work that touches `PATH`")
	f.BoolVar(&o.withNeeded, "with-needed", false, "take along what the chosen work depends on")
	f.BoolVar(&o.again, "again", false, "bring work again that was taken back from TO")
	f.StringSliceVar(&o.override, "override", nil, "pass the `GATE` though it is shut")
	f.StringVar(&o.reason, "reason", "", "why it is overridden, `TEXT`")
	f.StringVar(&o.at, "at", "", "write what a scheduler runs at the `TIME`, and change nothing")
	f.StringVar(&o.expect, "expect", "", "refuse it unless FROM holds the commit `STATE`")
	f.BoolVar(&o.full, "full", false, "show every change and every statement")
	f.BoolVar(&o.settle, "settle", false, "settle what is in conflict, in the promotion")
	f.BoolVar(&o.abandon, "abandon", false, "settle it no more, and forget the choices")
	for _, name := range []string{"item", "override", "reason", "at", "expect"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	_ = cmd.RegisterFlagCompletionFunc("lane", a.completeLanes)
	cmd.MarkFlagsMutuallyExclusive("at", "dry-run", "script", "settle", "abandon", "plan", "follow")
	for _, name := range []string{"item", "path", "with-needed", "again", "lane"} { // the plan says it
		cmd.MarkFlagsMutuallyExclusive("follow", name)
	}
	return cmd
}

func (a *App) promote(ctx context.Context, w *workspace.Workspace, args []string, o promoteOptions) error {
	m := a.mover(w)
	from, to := args[0], ""
	var err error
	if len(args) == 2 {
		to = args[1]
	} else if to, err = m.Next(ctx, from); err != nil {
		return err
	}
	opts := pipeline.PromoteOptions{Lane: o.lane, Item: o.item, WithNeeded: o.withNeeded, Again: o.again, Override: o.override,
		Reason: o.reason, AllowLoss: o.allowLoss}
	if opts.Paths, err = a.asked(w).Paths(o.paths); err != nil {
		return err
	}
	if err = o.tell(m); err != nil {
		return err
	}
	if o.expect != "" {
		c, err := a.asked(w).Commit(ctx, o.expect)
		if err != nil {
			return err
		}
		opts.Expect = c.ID
	}
	switch {
	case o.settle:
		return a.settlePromotion(ctx, m, from, to, opts)
	case o.abandon:
		return a.abandonPromotion(ctx, w, from, to)
	}
	if o.follow != "" {
		if opts, err = a.followedPromotion(ctx, m, from, to, o, opts); err != nil {
			return err
		}
		o.allowLoss = opts.AllowLoss
	}
	p, err := m.PreparePromotion(ctx, from, to, opts)
	if err != nil {
		return err
	}
	defer func() { _ = p.Close() }()
	var plan *result.Plan
	if o.at != "" {
		return a.schedule(w, p, o)
	}
	nothing := o.follow == "" && p.Nothing() && o.item == "" && len(o.paths) == 0
	if !a.JSON && !a.Quiet && !nothing {
		a.showPromotion(p, o)
	}
	switch {
	case nothing:
		a.Say("%s has everything that %s has.", to, from)
	case o.script != "" && p.Deployment != nil:
		script, err := scriptText(ctx, p.Deployment)
		if err != nil {
			return err
		}
		if err := writeWhole(a.at(o.script), []byte(script)); err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", o.script, err)
		}
		a.Say("The statements are in %s; %s was not changed.", o.script, to)
	case o.plan != "":
		f, err := m.PlanOfPromotion(ctx, p, opts)
		if err == nil {
			plan, err = a.writePlan(f, o.plan)
		}
		if err != nil {
			return err
		}
	case o.dryRun:
		a.Say("Nothing was changed: this was a dry run.")
	default:
		if p.AsksAgain() && a.Keys != nil && !a.JSON && a.Ask("Bring again what was taken back from "+to+"?") {
			opts.Again = true
			p.BringAgain()
		}
		if err := a.movePromotion(ctx, m, p, opts); err != nil {
			return err
		}
	}
	if a.JSON {
		out := result.PromotedOf(p)
		out.Plan = plan
		a.print(out)
	}
	return nil
}

// followedPromotion gives the options of the promotion that a plan describes; of those that were written only what
// passes gates counts.
func (a *App) followedPromotion(ctx context.Context, m *pipeline.Mover, from, to string, o promoteOptions,
	given pipeline.PromoteOptions) (pipeline.PromoteOptions, error) {
	f, err := a.readPlan(o.follow)
	if err != nil {
		return given, err
	}
	opts, err := m.FollowingPromotion(ctx, from, to, f)
	opts.Override, opts.Reason = given.Override, given.Reason
	return opts, err
}

// movePromotion carries a promotion out, and tells how far it is.
func (a *App) movePromotion(ctx context.Context, m *pipeline.Mover, p *pipeline.Promotion, o pipeline.PromoteOptions) error {
	show := a.Progress()
	o.Done = func(step int) {
		if show != nil && p.Deployment != nil {
			show("running steps", step, len(p.Deployment.Plan.Steps))
		}
	}
	o.Gate = func(name string) {
		if a.Live {
			a.Note("Gate %s is run …", name)
		}
	}
	err := m.Promote(ctx, p, o)
	a.EndProgress()
	if err != nil {
		for _, g := range p.Gates {
			if g.Verdict == pipeline.Shut && g.Output != "" {
				a.Say("%s\n%s\n", a.Paint(screen.Strong, "What gate "+g.Name+" said"), lastLines(g.Output, mostShown))
			}
		}
		return err
	}
	d := p.Deployment
	d.Label = workspace.Label(p.Commit)
	for _, g := range p.Gates {
		if g.Took > 0 || g.Verdict == pipeline.Overridden {
			a.Say("Gate %s: %s", g.Name, g.Said)
		}
	}
	a.showDeployed(d)
	return nil
}

// lastLines gives the end of a text.
func lastLines(text string, most int) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	return strings.Join(lines[max(0, len(lines)-most):], "\n")
}

// mostShown bounds how many changes and steps of a promotion are listed unless all are
// asked for.
const mostShown = 12

func (a *App) showPromotion(p *pipeline.Promotion, o promoteOptions) {
	into := ""
	if p.Branch != "" {
		into = ", into branch " + p.Branch
	}
	lane := ""
	if p.Lane != "" {
		lane = p.Lane + ": "
	}
	a.Say("%s%s (%s) → %s%s", lane, p.From.Name, workspace.Label(p.Source), a.Paint(screen.Strong, p.To.Name), into)
	if p.Deployment != nil && !p.Deployment.Unfinished.IsZero() {
		a.Say("  What began on %s did not end: what it did is there, and this goes on from it. oaken rollback %s takes it back.",
			screen.Clock(p.Deployment.Unfinished), p.To.Name)
	}
	a.showAhead(p)
	a.Say("\n%s", a.Paint(screen.Strong, "Moves: "+countOr(len(p.Moving), "commit", "nothing new")))
	a.showWork(p.Moving, p)
	if len(p.Needs) > 0 {
		a.showNeeds(p, o)
	}
	a.showClash(p.Conflicts, "  ", p.Branch, p.From.Name)
	a.showChosen(p.Settled)
	if p.Deployment == nil {
		return
	}
	a.Say("\n%s", a.Paint(screen.Strong, "What becomes different in "+p.To.Name))
	a.showSome(p, o)
	if folders := p.Untested(); len(folders) > 0 {
		a.Say("  %s", a.Paint(screen.Warm, fmt.Sprintf("Not tried in %s, which does not hold it: %s", p.From.Name,
			strings.Join(folders, ", "))))
	}
	a.showPlanOf(p, o)
	a.showGates(p.Gates)
	if lost := p.Deployment.Plan.Loses(); len(lost) > 0 && !o.allowLoss {
		a.Say("\n%s", a.Paint(screen.Bad, "Would lose data: "+strings.Join(lost, "; ")))
	}
	a.Say("")
}

// showClash lists what two sides changed differently.
func (a *App) showClash(list []element.Conflict, indent, mine, theirs string) {
	for _, c := range list {
		a.Say("%s%s", indent, a.Paint(screen.Bad, "in conflict: "+c.Address.String()))
		a.Table(a.Out, indent+"  ", [][]screen.Cell{{screen.Faint.Cell("before"), screen.Plain.Cell(screen.OneLine(c.Base.String(), 90))},
			{screen.Faint.Cell(mine), screen.Plain.Cell(screen.OneLine(c.Mine.String(), 90))}, {screen.Faint.Cell(theirs),
				screen.Plain.Cell(screen.OneLine(c.Theirs.String(), 90))}})
	}
}

func countOr(n int, noun, none string) string {
	if n == 0 {
		return none
	}
	return screen.Count(n, noun)
}

// showAhead tells what the target has and the source has not, before anything else.
func (a *App) showAhead(p *pipeline.Promotion) {
	if len(p.Ahead) == 0 {
		return
	}
	a.Say("\n%s", a.Paint(screen.Warm, fmt.Sprintf("%s has work that %s has not:", p.To.Name, p.From.Name)))
	lost := map[ledger.ID]bool{}
	for _, c := range p.Lost {
		lost[c.ID] = true
	}
	var rows [][]screen.Cell
	for i, c := range p.Ahead {
		if i == mostShown {
			rows = append(rows, []screen.Cell{screen.Faint.Cell(fmt.Sprintf("and %d more", len(p.Ahead)-i))})
			break
		}
		fate := screen.Good.Cell("stays")
		if lost[c.ID] {
			fate = screen.Bad.Cell("would go from it")
		}
		rows = append(rows, append(workCells(c, p.Firsts), fate))
	}
	a.Table(a.Out, "  ", rows)
}

// workCells tells of one commit; firsts gives of picks the commit that did the work first.
func workCells(c ledger.Commit, firsts map[ledger.ID]ledger.Commit) []screen.Cell {
	return []screen.Cell{screen.Strong.Cell(pickLabel(c, firsts[c.ID])), screen.Plain.Cell(c.Item),
		screen.Plain.Cell(screen.OneLine(screen.FirstLine(c.Message), 56)), screen.Plain.Cell(c.Author),
		screen.Faint.Cell(screen.Clock(c.Time))}
}

// pickLabel names a commit, and of a pick the commit that did the work first.
func pickLabel(c, first ledger.Commit) string {
	if first.Depth == 0 || first.ID == c.ID {
		return workspace.Label(c)
	}
	return workspace.Label(c) + " (" + workspace.Label(first) + ")"
}

func (a *App) showWork(list []ledger.Commit, p *pipeline.Promotion) {
	waiting := map[ledger.ID]bool{}
	for _, c := range p.Waiting {
		waiting[c.ID] = true
	}
	var rows [][]screen.Cell
	for i, c := range list {
		if i == 2*mostShown {
			rows = append(rows, []screen.Cell{screen.Faint.Cell(fmt.Sprintf("and %d more", len(list)-i))})
			break
		}
		row := workCells(c, p.Firsts)
		if waiting[c.ID] {
			row = append(row, screen.Faint.Cell("on branch "+p.Branch+" already"))
		}
		rows = append(rows, row)
	}
	a.Table(a.Out, "  ", rows)
}

func (a *App) showNeeds(p *pipeline.Promotion, o promoteOptions) {
	what := "It depends on work that was not chosen:"
	if o.withNeeded {
		what = "Taken along, because it is needed:"
	}
	a.Say("\n%s", a.Paint(screen.Warm, what))
	var rows [][]screen.Cell
	for _, n := range p.Needs {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(workspace.Label(n.Commit)), screen.Plain.Cell(n.Item),
			screen.Plain.Cell(screen.OneLine(screen.FirstLine(n.Message), 40)),
			screen.Plain.Cell(fmt.Sprintf("%s %s %s", workspace.Label(n.For), n.How, n.What))})
	}
	a.Table(a.Out, "  ", rows)
}

func (a *App) showSome(p *pipeline.Promotion, o promoteOptions) {
	if len(p.Differences) == 0 {
		a.Say("  nothing")
		return
	}
	n := 0
	for _, d := range p.Differences {
		n += len(d.Changes)
	}
	a.showDifferences(p.Differences, n > 2*mostShown && !o.full)
}

// showPlanOf lists the steps of a promotion with their statements.
func (a *App) showPlanOf(p *pipeline.Promotion, o promoteOptions) {
	steps := p.Deployment.Plan.Steps
	a.Say("\n%s", a.Paint(screen.Strong, "Steps: "+countOr(len(steps), "step", "none")))
	if len(steps) <= mostShown || o.full {
		a.showSteps(steps, "  ")
		a.showStays(p.Deployment.Plan)
		return
	}
	effects, order := map[string]int{}, []string{}
	for _, s := range steps {
		if effects[string(s.Effect)] == 0 {
			order = append(order, string(s.Effect))
		}
		effects[string(s.Effect)]++
	}
	for _, e := range order {
		a.Say("  %s  %s", screen.Count(effects[e], "step"), a.Paint(screen.Faint, "["+e+"]"))
	}
	var losing []environment.Step
	for _, s := range steps {
		if s.Loss != "" {
			losing = append(losing, s)
		}
	}
	a.showSteps(losing, "  ")
	a.Say("  %s", a.Paint(screen.Faint, "--full lists them all, --script FILE writes the statements"))
}

func (a *App) showGates(gates []pipeline.GateResult) {
	if len(gates) == 0 {
		return
	}
	a.Say("\n%s", a.Paint(screen.Strong, "Gates"))
	var rows [][]screen.Cell
	for _, g := range gates {
		t := map[pipeline.Verdict]screen.Tone{pipeline.Open: screen.Good, pipeline.Shut: screen.Bad, pipeline.Overridden: screen.Warm,
			pipeline.ToBeRun: screen.Faint}[g.Verdict]
		rows = append(rows, []screen.Cell{screen.Plain.Cell(g.Name), t.Cell(string(g.Verdict)), screen.Plain.Cell(g.Said)})
		if g.Do != "" {
			rows = append(rows, []screen.Cell{screen.Plain.Cell(""), screen.Plain.Cell(""), screen.Faint.Cell(g.Do)})
		}
	}
	a.Table(a.Out, "  ", rows)
}

// schedule writes what a scheduler runs, for the work that is there now.
func (a *App) schedule(w *workspace.Workspace, p *pipeline.Promotion, o promoteOptions) error {
	when, err := service.Time(o.at, a.Now())
	if err != nil {
		return err
	}
	if !when.After(a.Now()) {
		return fault.New(fault.Usage, "Name a time that is to come.", "%s is over.", screen.Clock(when))
	}
	call := []string{"oaken", "--in", quoteWord(filepath.Clean(w.Root)), "--as", quoteWord(w.Person), "--yes", "promote",
		quoteWord(p.From.Name), quoteWord(p.To.Name), "--expect", p.Source.ID.Short()}
	for _, f := range [][2]string{{"--item", o.item}, {"--lane", o.lane}, {"--reason", o.reason}} {
		if f[1] != "" {
			call = append(call, f[0], quoteWord(f[1]))
		}
	}
	for _, g := range o.override {
		call = append(call, "--override", quoteWord(g))
	}
	for _, v := range o.paths {
		call = append(call, "--path", quoteWord(v))
	}
	if o.again {
		call = append(call, "--again")
	}
	if o.withNeeded {
		call = append(call, "--with-needed")
	}
	if o.allowLoss {
		call = append(call, "--allow-loss")
	}
	command := strings.Join(call, " ")
	local := when.Local()
	if a.JSON {
		a.print(result.Scheduled{Time: result.Time(when), Command: command})
		return nil
	}
	a.Say("# %s → %s at %s, just what is there now: %s", p.From.Name, p.To.Name, screen.Clock(when), workspace.Label(p.Source))
	a.Say("# A line for cron, which runs it once a year; take it out afterwards:")
	a.Say("%d %d %d %d * %s", local.Minute(), local.Hour(), local.Day(), int(local.Month()), command)
	a.Say("# The same for systemd, once:")
	a.Say("systemd-run --user --on-calendar=%s %s", quoteWord(local.Format("2006-01-02 15:04:05")), command)
	return nil
}

// quoteWord writes a word as a shell reads it.
func quoteWord(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:,=+", r)
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
