package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type owedOptions struct {
	lane, item, older, by string
	check                 bool
}

// The orders in which what is owed is listed.
const (
	byLane = "lane"
	byAge  = "age"
	byItem = "item"
)

var owedBy = []string{byLane, byAge, byItem}

func newOwed(a *App) *cobra.Command {
	var o owedOptions
	cmd := &cobra.Command{
		Use:   "owed",
		Short: "List what has reached a later environment and has not come back",
		Long: `List, for each lane and environment, the work that a later environment has and this
one has not: another team's, or a hot fix. It is found anew each time, from what was
deployed where and from the commits; work that was merged or picked counts as
arrived, and so does the very same change made again. oaken backfill brings it back.`,
		Example:           "  oaken owed\n  oaken owed --lane Exhibit --older 3d --check\n  oaken owed --by item",
		GroupID:           groupPipeline,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !slices.Contains(owedBy, o.by) {
				return usage(cmd, "--by takes one of %s, not %q.", strings.Join(owedBy, ", "), o.by)
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.owed(cmd.Context(), w, o) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.lane, "lane", "", "only what the lane `NAME` owes")
	f.StringVar(&o.item, "item", "", "only the work for the item `KEY`")
	f.StringVar(&o.older, "older", "", "only what a later environment has had for longer than `TIME`, such as 3d")
	f.StringVar(&o.by, "by", byLane, "list it by `lane`, age or item")
	_ = cmd.RegisterFlagCompletionFunc("by", cobra.FixedCompletions(owedBy, cobra.ShellCompDirectiveNoFileComp))
	f.BoolVar(&o.check, "check", false, "end with status 1 when something is owed")
	_ = cmd.RegisterFlagCompletionFunc("lane", a.completeLanes)
	_ = cmd.RegisterFlagCompletionFunc("item", cobra.NoFileCompletions)
	_ = cmd.RegisterFlagCompletionFunc("older", cobra.NoFileCompletions)
	return cmd
}

func (a *App) owed(ctx context.Context, w *workspace.Workspace, o owedOptions) error {
	older, err := manifest.Duration(o.older)
	if err != nil {
		return usageText("Write a length such as 8h or 3d.", err)
	}
	m := a.mover(w)
	if o.lane != "" {
		if _, ok := m.Landscape(ctx).Manifest.Pipeline.Lane(o.lane); !ok {
			return fault.New(fault.Usage, "Lanes are declared in oaken.toml, under [[pipeline.lane]].", "There is no lane %s.", o.lane)
		}
	}
	all, empty, err := m.OwedOf(ctx)
	if err != nil {
		return err
	}
	var list []owed.Debt
	besides := map[string]bool{} // work that was not asked for
	var back []owed.Debt         // what was taken back
	for _, d := range all {
		if len(d.TakenBack) > 0 && (o.lane == "" || d.Lane == o.lane) {
			back = append(back, d)
		}
		d.Works = slices.DeleteFunc(d.Works, func(x owed.Work) bool {
			other := o.item != "" && x.Item != o.item || older > 0 && a.Now().Sub(x.Since) <= older || o.lane != "" && d.Lane != o.lane
			if other {
				besides[x.ID.String()] = true
			}
			return other
		})
		if len(d.Works) > 0 {
			list = append(list, d)
		}
	}
	a.showOwed(list, o.by, owedBesides{o.asked(), len(besides), empty, back,
		func(lane string) map[string]string { return m.BackfillGoes(ctx, lane) }})
	if o.check && len(list) > 0 {
		return &foundDifference{}
	}
	return nil
}

// asked says what was asked for; empty for everything.
func (o owedOptions) asked() string {
	var parts []string
	if o.lane != "" {
		parts = append(parts, "to "+o.lane)
	}
	if o.item != "" {
		parts = append(parts, "for "+o.item)
	}
	if o.older != "" {
		parts = append(parts, "for longer than "+o.older)
	}
	return strings.Join(parts, ", ")
}

// owedBesides is what a list of what is owed leaves out: the work that was not asked for,
// and the environments of which nothing is known.
type owedBesides struct {
	asked string
	works int
	empty []string
	back  []owed.Debt // taken back, and not owed until somebody brings it there
	// kept gives, of the environments of a lane, those that nothing can be deployed to now.
	kept func(lane string) map[string]string
}

// nothing says that nothing is owed, and of what that is said.
func (b owedBesides) nothing() string {
	switch {
	case b.asked == "" && len(b.empty) == 0:
		return "Nothing is owed: what later environments have has come back everywhere."
	case b.asked == "":
		return "Nothing is owed, as far as is known."
	case b.works == 0:
		return "Nothing is owed " + b.asked + ", nor anything else."
	}
	return "Nothing is owed " + b.asked + "; " + isAreCount(b.works, "other piece of work is", "other pieces of work are") + "."
}

func (a *App) showOwed(list []owed.Debt, by string, besides owedBesides) {
	if !a.JSON {
		defer func() {
			for _, d := range besides.back {
				for _, x := range d.TakenBack {
					a.Say("Taken back from %s, so not owed to it: %s  %s  %s", d.Environment, pickLabel(x.Commit, x.First), x.Item,
						screen.OneLine(screen.FirstLine(x.Message), 44))
				}
			}
			if len(besides.empty) > 0 {
				a.Say("Nothing was deployed to %s yet: what is there, and owed for it, is not known.", strings.Join(besides.empty, ", "))
			}
		}()
	}
	switch {
	case a.JSON:
		a.print(result.OwedOf(list, besides.works, besides.empty, besides.back))
	case len(list) == 0:
		a.Say("%s", besides.nothing())
	case by == byItem:
		a.owedByItem(list)
	case by == byAge:
		works := gather(list)
		slices.SortStableFunc(works, func(x, y *debtOf) int { return x.Since.Compare(y.Since) })
		a.Table(a.Out, "", a.owedRows(works))
	default:
		a.owedByLane(list, besides.kept)
	}
}

// debtOf is one work with the environments that it is owed to.
type debtOf struct {
	owed.Work
	to     []string
	merged []string // those whose branch has it
}

// gather puts what several environments are owed together, by work.
func gather(list []owed.Debt) []*debtOf {
	var out []*debtOf
	at := map[string]*debtOf{}
	for _, d := range list {
		for _, x := range d.Works {
			key := x.ID.String()
			if at[key] == nil {
				at[key] = &debtOf{Work: x}
				out = append(out, at[key])
			}
			if x.Since.Before(at[key].Since) {
				at[key].Since = x.Since
			}
			if x.Merged {
				at[key].merged = append(at[key].merged, d.Environment)
			} else {
				at[key].to = append(at[key].to, d.Environment)
			}
		}
	}
	return out
}

func (a *App) owedByLane(list []owed.Debt, kept func(lane string) map[string]string) {
	lanes, order := map[string][]owed.Debt{}, []string{}
	for _, d := range list {
		if _, ok := lanes[d.Lane]; !ok {
			order = append(order, d.Lane)
		}
		lanes[d.Lane] = append(lanes[d.Lane], d)
	}
	for i, name := range order {
		title := name
		if name == "" {
			title = "Environments that lanes share"
		}
		works := gather(lanes[name])
		if i > 0 {
			a.Say("")
		}
		a.Say("%s  %s", a.Paint(screen.Strong, title), a.Paint(screen.Faint, screen.Count(len(works), "commit")+" owed"))
		held := map[string]string{}
		if name != "" {
			held = kept(name)
		}
		a.owedGroups(name, works, held)
	}
}

// owedGroups lists what a lane is owed by what has to be done; kept are the environments that nothing can be deployed to now,
// with the reasons.
func (a *App) owedGroups(lane string, works []*debtOf, kept map[string]string) {
	var merge, deploy, wait []*debtOf
	for _, x := range works {
		switch {
		case len(x.to) > 0:
			merge = append(merge, x)
		case slices.ContainsFunc(x.merged, func(env string) bool { _, is := kept[env]; return !is }):
			deploy = append(deploy, x)
		default:
			wait = append(wait, x)
		}
	}
	call := ""
	if lane != "" {
		call = ": oaken backfill " + quoteWord(lane)
	}
	for _, g := range []struct {
		title string
		works []*debtOf
	}{{"To bring back" + call, merge}, {"Merged, to be deployed" + call, deploy}, {"It waits for " + waitsFor(wait, kept), wait}} {
		if len(g.works) == 0 {
			continue
		}
		a.Say("  %s", a.Paint(screen.Faint, g.title))
		a.Table(a.Out, "    ", a.owedRows(g.works))
	}
}

// waitsFor names the environments that nothing can be deployed to now, with the reasons.
func waitsFor(works []*debtOf, kept map[string]string) string {
	var out []string
	for _, x := range works {
		for _, env := range x.merged {
			text := env
			if why, is := kept[env]; is {
				text += " (" + why + ")"
			}
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return strings.Join(out, ", ")
}

func (a *App) owedRows(works []*debtOf) [][]screen.Cell {
	var rows [][]screen.Cell
	for _, x := range works {
		age := a.Now().Sub(x.Since)
		t := screen.Faint
		if age > 3*24*time.Hour {
			t = screen.Warm
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(pickLabel(x.Commit, x.First)), screen.Plain.Cell(x.Item),
			screen.Plain.Cell(screen.OneLine(screen.FirstLine(x.Message), 44)),
			screen.Plain.Cell(x.Author), t.Cell("in " + x.Where + ", owed for " + pipeline.Span(age)), screen.Plain.Cell(owedTo(x))})
	}
	return rows
}

// owedTo says where a work is missing.
func owedTo(x *debtOf) string {
	var parts []string
	if len(x.to) > 0 {
		parts = append(parts, "not in "+strings.Join(x.to, ", "))
	}
	if len(x.merged) > 0 {
		parts = append(parts, "merged, to be deployed to "+strings.Join(x.merged, ", "))
	}
	return strings.Join(parts, "; ")
}

func (a *App) owedByItem(list []owed.Debt) {
	items, order := map[string][]*debtOf{}, []string{}
	for _, x := range gather(list) {
		if _, ok := items[x.Item]; !ok {
			order = append(order, x.Item)
		}
		items[x.Item] = append(items[x.Item], x)
	}
	slices.Sort(order)
	for _, item := range order {
		title := item
		if item == "" {
			title = "without an item"
		}
		a.Say("%s", a.Paint(screen.Strong, title))
		a.Table(a.Out, "  ", a.owedRows(items[item]))
	}
}

func newBackfill(a *App) *cobra.Command {
	var from string
	var dryRun, mergeOnly, allowLoss, all bool
	cmd := &cobra.Command{
		Use:   "backfill [LANE]",
		Short: "Bring back to a lane what later environments have",
		Long: `Merge what a lane owes into its branch, and deploy it to the lane's environments. In
place of a lane, one environment may be named. Where both sides changed one thing the
merge is refused, with the address: settle it on the branch, and run it again.

An environment is left out, and named, when somebody changed it by hand, when another
lane has booked it, when others control it, or when its branch has work that no
promotion has brought yet.
--all brings everything back everywhere, the latest environments first.`,
		Example: "  oaken backfill Exhibit --dry-run\n  oaken backfill Exhibit\n  oaken backfill acceptance\n" +
			"  oaken backfill --all",
		GroupID:           groupPipeline,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeLanes,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return usage(cmd, "Name a lane or an environment, or say --all.")
			}
			o := pipeline.BackfillOptions{From: from, MergeOnly: mergeOnly, AllowLoss: allowLoss}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if all {
					var err error
					if args, err = a.backfillOrder(cmd.Context(), w); err != nil {
						return err
					}
				}
				return a.backfill(cmd.Context(), w, args, o, dryRun)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&from, "from", "", "bring back only what the environment `ENV` has")
	f.BoolVar(&dryRun, "dry-run", false, "show what would be done and change nothing")
	f.BoolVar(&mergeOnly, "merge-only", false, "merge into the branch, and leave the environments as they are")
	f.BoolVar(&allowLoss, "allow-loss", false, "consent to the loss of data; it is saved first")
	f.BoolVar(&all, "all", false, "bring everything back everywhere")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeEnvironments)
	return cmd
}

// backfillOrder lists the environments that are owed something, the latest first.
func (a *App) backfillOrder(ctx context.Context, w *workspace.Workspace) ([]string, error) {
	m := a.mover(w)
	list, err := m.Owed(ctx)
	if err != nil {
		return nil, err
	}
	l := m.Landscape(ctx)
	rank := func(name string) int {
		e, _ := l.Manifest.Environment(name)
		return e.Tier.Rank()
	}
	slices.SortStableFunc(list, func(a, b owed.Debt) int { return rank(b.Environment) - rank(a.Environment) })
	var out []string
	for _, d := range list {
		out = append(out, d.Environment)
	}
	return out, nil
}

func (a *App) backfill(ctx context.Context, w *workspace.Workspace, names []string, o pipeline.BackfillOptions, dryRun bool) error {
	m := a.mover(w)
	o.Told = func(what string) {
		if a.Live {
			a.Note("%s …", what)
		}
	}
	list, left := []result.Backfill{}, 0
	for _, name := range names {
		b, err := m.PrepareBackfill(ctx, name, o)
		if err != nil {
			return err
		}
		if !dryRun {
			if err := m.Backfill(ctx, b, o); err != nil {
				return err
			}
		}
		for _, s := range b.Stages {
			if s.Left != "" && !o.MergeOnly {
				left++
			}
		}
		if !a.JSON {
			a.showBackfill(b, dryRun)
		}
		list = append(list, result.BackfillOf(b))
	}
	switch {
	case a.JSON:
		a.print(result.Backfills{DryRun: dryRun, Backfills: list})
	case len(names) == 0:
		a.Say("Nothing is owed: what later environments have has come back everywhere.")
	case dryRun:
		a.Say("Nothing was changed: this was a dry run.")
	}
	if left > 0 && !dryRun {
		return fault.New(fault.Refused, "See the reasons above; oaken owed lists what is still missing.", "%s not deployed to.",
			isAreCount(left, "environment was", "environments were"))
	}
	return nil
}

func isAreCount(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (a *App) showBackfill(b *pipeline.Backfill, dryRun bool) {
	if len(b.Stages) == 0 {
		a.Say("%s is owed nothing.", a.Paint(screen.Strong, b.Lane))
		return
	}
	a.Say("%s", a.Paint(screen.Strong, "Back to "+b.Lane))
	for _, x := range b.Branches {
		var from []string
		for _, s := range x.Sources {
			from = append(from, s.Environment+" ("+workspace.Label(s.Commit)+")")
		}
		if len(from) > 0 {
			a.Say("  into branch %s, from %s:", x.Name, strings.Join(from, ", "))
		}
		var rows [][]screen.Cell
		for _, work := range x.Brings {
			rows = append(rows, []screen.Cell{screen.Strong.Cell(pickLabel(work.Commit, work.First)), screen.Plain.Cell(work.Item),
				screen.Plain.Cell(screen.OneLine(screen.FirstLine(work.Message), 56)), screen.Plain.Cell(work.Author)})
		}
		a.Table(a.Out, "    ", rows)
		if len(x.Conflicts) > 0 {
			a.showClash(x.Conflicts, "    ", x.Name, x.Sources[0].Environment)
		}
		for _, c := range x.Merged {
			a.Say("    merged as %s", a.Paint(screen.Good, workspace.Label(c)))
		}
	}
	var rows [][]screen.Cell
	for _, s := range b.Stages {
		switch {
		case s.Left != "":
			rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Environment), screen.Warm.Cell("left"), screen.Plain.Cell(s.Left)})
		case s.Done:
			rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Environment), screen.Good.Cell("has it"),
				screen.Faint.Cell(fmt.Sprintf("%s, %s", workspace.Label(s.Commit), screen.Count(s.Steps, "step")))})
		case dryRun:
			rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Environment), screen.Plain.Cell("would get"),
				screen.Faint.Cell(screen.Count(len(s.Brings), "commit"))})
		}
	}
	a.Table(a.Out, "  ", rows)
}
