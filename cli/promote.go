package cli

import (
	"context"
	"fmt"
	"slices"
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

type promoteOptions struct {
	deployOptions
	item, at, expect, lane string
	release                string
	paths                  []string
	withNeeded, again      bool
	override               []string
	full                   bool
	settle, abandon        bool
	asFarAs, message       string
	ready, approve, check  bool
	planned, due           bool
	cancel                 int64
}

// alone says that environments are not named: the call is about all of them, or about what is planned.
func (o *promoteOptions) alone() bool { return o.ready || o.planned || o.due || o.cancel != 0 }

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
can be overridden by those who may, with a reason; --approve approves it first, for
those whose approval counts. --check changes nothing, and ends with status 1 when a
gate is shut.

--as-far-as ENV goes on from FROM move by move while gates are open; --ready moves
everything that may move. --at plans a promotion of just the work that is there now:
--planned lists what is planned, --cancel calls it off, and --due, which a scheduler
runs every few minutes, carries out what is due.

Where the work is in conflict with what the branch of TO has, --settle begins to
settle that in the promotion: oaken resolve --to TO does it, approvals are then for
what comes of it, and nothing enters the branch before the gates are open. --abandon
gives the choices up.

--plan FILE writes down all that would be done, for somebody to read and to approve
(oaken approve TO --plan FILE); --follow FILE does just that, or nothing.`,
		Example: "  oaken promote dev test --dry-run\n  oaken promote dev test\n" +
			"  oaken promote test live --item AQ-31 --with-needed\n  oaken promote dev test --settle\n" +
			"  oaken promote rehearsal --at \"2026-12-01 22:00\"\n  oaken promote dev --as-far-as acceptance\n" +
			"  oaken promote --ready",
		GroupID:           groupPipeline,
		Args:              cobra.MaximumNArgs(2),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case o.alone() && len(args) > 0:
				return usage(cmd, "With that option no environment is named.")
			case !o.alone() && len(args) == 0:
				return usage(cmd, "Name the environment whose work is to move.")
			case o.asFarAs != "" && len(args) > 1:
				return usage(cmd, "It is FROM and --as-far-as alone.")
			}
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
	f.StringVar(&o.release, "release", "", "move only the work for the items of the planned release `NAME`")
	f.StringSliceVar(&o.paths, "path", nil, "move only the work that touches `PATH`")
	f.BoolVar(&o.withNeeded, "with-needed", false, "take along what the chosen work depends on")
	f.BoolVar(&o.again, "again", false, "bring work again that was taken back from TO")
	f.StringSliceVar(&o.override, "override", nil, "pass the `GATE` though it is shut")
	f.StringVar(&o.reason, "reason", "", "why it is overridden, `TEXT`")
	f.StringVar(&o.at, "at", "", "plan it for the `TIME`, and change nothing now")
	f.BoolVar(&o.planned, "planned", false, "list the promotions that are planned")
	f.Int64Var(&o.cancel, "cancel", 0, "call the planned promotion `NUMBER` off")
	f.BoolVar(&o.due, "due", false, "carry out the planned promotions that are due")
	f.StringVar(&o.asFarAs, "as-far-as", "", "go on to `ENV` while gates are open")
	f.BoolVar(&o.ready, "ready", false, "move everything that may move")
	f.BoolVar(&o.approve, "approve", false, "approve it first")
	f.StringVarP(&o.message, "message", "m", "", "what to say with --approve, `TEXT`")
	f.BoolVar(&o.check, "check", false, "change nothing, and end with status 1 when a gate is shut")
	f.StringVar(&o.expect, "expect", "", "refuse it unless FROM holds the commit `STATE`")
	f.BoolVar(&o.full, "full", false, "show every change and every statement")
	f.BoolVar(&o.settle, "settle", false, "settle what is in conflict, in the promotion")
	f.BoolVar(&o.abandon, "abandon", false, "settle it no more, and forget the choices")
	_ = cmd.RegisterFlagCompletionFunc("as-far-as", a.completeEnvironments)
	for _, name := range []string{"item", "override", "reason", "at", "expect", "message", "cancel"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	_ = cmd.RegisterFlagCompletionFunc("lane", a.completeLanes)
	cmd.MarkFlagsMutuallyExclusive("at", "dry-run", "script", "settle", "abandon", "plan", "follow", "as-far-as", "ready", "check",
		"planned", "due", "cancel")
	for _, many := range []string{"as-far-as", "ready", "due"} { // these are about one promotion
		for _, one := range []string{"item", "path", "override", "expect", "release"} {
			cmd.MarkFlagsMutuallyExclusive(many, one)
		}
	}
	for _, none := range []string{"dry-run", "script", "plan", "check", "at", "settle", "abandon", "planned", "due", "cancel"} {
		cmd.MarkFlagsMutuallyExclusive("approve", none) // these move nothing now, and an approval is no part of them
	}
	_ = cmd.RegisterFlagCompletionFunc("release", a.completeBundles)
	cmd.MarkFlagsMutuallyExclusive("release", "item")
	for _, name := range []string{"item", "path", "with-needed", "again", "lane", "release"} { // the plan says it
		cmd.MarkFlagsMutuallyExclusive("follow", name)
	}
	return cmd
}

func (a *App) promote(ctx context.Context, w *workspace.Workspace, args []string, o promoteOptions) error {
	m := a.mover(w)
	switch {
	case o.planned:
		return a.listPlanned(ctx, w, m)
	case o.cancel != 0:
		return a.callOff(ctx, w, m, o.cancel)
	case o.due:
		return a.carryOutDue(ctx, w, m)
	}
	opts, err := a.promotionAsked(ctx, w, m, o)
	if err != nil {
		return err
	}
	switch {
	case o.ready:
		return a.promoteReady(ctx, m, opts, o)
	case o.asFarAs != "":
		return a.promoteAlong(ctx, m, args[0], opts, o)
	}
	from, to := args[0], ""
	if len(args) == 2 {
		to = args[1]
	} else if to, err = m.Next(ctx, from); err != nil {
		return err
	}
	switch {
	case o.settle:
		return a.settlePromotion(ctx, m, from, to, opts)
	case o.abandon:
		return a.abandonPromotion(ctx, w, from, to)
	case o.at != "":
		return a.planPromotion(ctx, w, m, from, to, opts, o)
	case o.follow != "":
		if opts, err = a.followedPromotion(ctx, m, from, to, o, opts); err != nil {
			return err
		}
		o.allowLoss = opts.AllowLoss
	}
	out, err := a.promoteOnce(ctx, m, from, to, opts, o)
	if a.JSON && out != nil {
		if err != nil {
			failure := result.ErrorOf(asFault(err)).Error
			out.Error = &failure
			err = &alreadyTold{err}
		}
		a.print(*out)
	}
	if err == nil && o.check && out != nil &&
		slices.ContainsFunc(out.Gates, func(g result.Gate) bool { return g.Verdict == string(pipeline.Shut) }) {
		return &foundDifference{}
	}
	return err
}

// promotionAsked gives the options of a promotion as they were written.
func (a *App) promotionAsked(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover, o promoteOptions) (
	opts pipeline.PromoteOptions, err error) {
	opts = pipeline.PromoteOptions{Lane: o.lane, Item: o.item, WithNeeded: o.withNeeded, Again: o.again, Override: o.override,
		Reason: o.reason, AllowLoss: o.allowLoss}
	if opts.Paths, err = a.asked(w).Paths(o.paths); err != nil {
		return opts, err
	}
	if o.release != "" {
		if opts.Items, err = m.ItemsOf(ctx, o.release); err != nil {
			return opts, err
		}
	}
	if err = o.tell(m); err != nil || o.expect == "" {
		return opts, err
	}
	c, err := a.asked(w).Commit(ctx, o.expect)
	opts.Expect = c.ID
	return opts, err
}

// promoteOnce prepares one promotion, shows it, and does what was asked. What it would do is given also when it is
// refused; nil where nobody could tell.
func (a *App) promoteOnce(ctx context.Context, m *pipeline.Mover, from, to string, opts pipeline.PromoteOptions, o promoteOptions) (
	*result.Promoted, error) {
	if o.approve {
		if err := a.approveFirst(ctx, m, from, to, o); err != nil {
			return nil, err
		}
	}
	p, err := m.PreparePromotion(ctx, from, to, opts)
	if err != nil {
		return nil, err
	}
	defer func() { _ = p.Close() }()
	nothing := o.follow == "" && p.Nothing() && o.item == "" && o.release == "" && len(o.paths) == 0
	if !a.JSON && !a.Quiet && !nothing {
		a.showPromotion(p, o)
	}
	plan, err := a.doPromotion(ctx, m, p, nothing, opts, o)
	out := result.PromotedOf(p)
	out.Plan = plan
	return &out, err
}

// doPromotion does with a prepared promotion what was asked.
func (a *App) doPromotion(ctx context.Context, m *pipeline.Mover, p *pipeline.Promotion, nothing bool, opts pipeline.PromoteOptions,
	o promoteOptions) (plan *result.Plan, err error) {
	to := p.To.Name
	switch {
	case nothing:
		a.Say("%s has everything that %s has.", to, p.From.Name)
	case o.script != "" && p.Deployment != nil:
		script, err := scriptText(ctx, p.Deployment)
		if err != nil {
			return nil, err
		}
		if err := writeWhole(a.at(o.script), []byte(script)); err != nil {
			return nil, fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", o.script, err)
		}
		a.Say("The statements are in %s; %s was not changed.", o.script, to)
	case o.plan != "":
		f, err := m.PlanOfPromotion(ctx, p, opts)
		if err != nil {
			return nil, err
		}
		return a.writePlan(f, o.plan)
	case o.dryRun:
		a.Say("Nothing was changed: this was a dry run.")
	case o.check:
		a.Say("Nothing was changed.")
		return nil, p.InTheWay(opts)
	default:
		if p.AsksAgain() && a.Keys != nil && !a.JSON && a.Ask("Bring again what was taken back from "+to+"?") {
			opts.Again = true
			p.BringAgain()
		}
		return nil, a.movePromotion(ctx, m, p, opts)
	}
	return nil, nil
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
			a.Note("%s is run …", name)
		}
	}
	err := m.Promote(ctx, p, o)
	a.EndProgress()
	if p.Deployment != nil {
		a.showAfter(p.Deployment.After)
	}
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
	for _, name := range p.Shipped {
		a.Say("Release %s is live with all its items: it is %s now.", a.Paint(screen.Strong, name), workspace.Label(p.Commit))
	}
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
		a.Table(a.Out, indent+"  ", sideRows(c, "before", mine, theirs))
	}
}

// sideRows tells what two sides made of a thing: texts of several lines around what differs.
func sideRows(c element.Conflict, before, mine, theirs string) (rows [][]screen.Cell) {
	names := []string{before, mine, theirs}
	sides := []element.Side{c.Base, c.Mine, c.Theirs}
	texts := make([]string, len(sides))
	long := false
	for i, side := range sides {
		texts[i] = sideFull(side)
		long = long || strings.Contains(strings.TrimSpace(texts[i]), "\n")
	}
	if !long {
		for i, side := range sides {
			rows = append(rows, []screen.Cell{screen.Faint.Cell(names[i]), screen.Plain.Cell(screen.OneLine(side.String(), 90))})
		}
		return rows
	}
	for i, lines := range screen.Around(texts...) {
		for n, line := range lines {
			name := ""
			if n == 0 {
				name = names[i]
			}
			rows = append(rows, []screen.Cell{screen.Faint.Cell(name), screen.Plain.Cell(strings.ReplaceAll(line, "\t", "  "))})
		}
	}
	return rows
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

// quoteWord writes a word as a shell reads it.
func quoteWord(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:,=+", r)
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
