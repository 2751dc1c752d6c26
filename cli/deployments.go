package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/board"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/report"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type deploymentsOptions struct {
	since, until, html, sheet string
	byItem, attempts          bool
	limit                     int
}

func newDeployments(a *App) *cobra.Command {
	var o deploymentsOptions
	cmd := &cobra.Command{
		Use:   "deployments [ENV]",
		Short: "List what was deployed where, when, by whom",
		Long: `List deployments, the newest first, with what came with them. --by-item tells what
went where by work item; --html and --sheet write that as a page and as a spreadsheet:
what went live this month, say. One deployment is shown whole with oaken deployments
show NUMBER, two are compared with oaken deployments compare NUMBER NUMBER.`,
		Example: "  oaken deployments live\n" +
			"  oaken deployments live --since 2026-06-01 --until 2026-06-30 --html june.html --sheet june.xlsx\n" +
			"  oaken deployments --by-item",
		GroupID:           groupPipeline,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			since, err := day(cmd, "since", o.since, 0)
			if err != nil {
				return err
			}
			until, err := day(cmd, "until", o.until, 24*time.Hour)
			if err != nil {
				return err
			}
			env := ""
			if len(args) == 1 {
				env = args[0]
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				return a.deployments(cmd.Context(), w, env, since, until, o)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.since, "since", "", "only from the `DAY` on, such as 2026-06-01")
	f.StringVar(&o.until, "until", "", "only up to the `DAY`, to its end")
	f.BoolVar(&o.byItem, "by-item", false, "list what went where by work item")
	f.BoolVar(&o.attempts, "attempts", false, "list what was refused or failed instead")
	f.IntVar(&o.limit, "limit", 30, "show at most `NUMBER`; 0 for all")
	f.StringVar(&o.html, "html", "", "write a page to `FILE`")
	f.StringVar(&o.sheet, "sheet", "", "write a spreadsheet to `FILE`")
	_ = cmd.MarkFlagFilename("html", "html")
	_ = cmd.MarkFlagFilename("sheet", "xlsx")
	for _, name := range []string{"since", "until", "limit"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	cmd.AddCommand(newDeploymentsShow(a), newDeploymentsCompare(a))
	return cmd
}

func (a *App) deployments(ctx context.Context, w *workspace.Workspace, env string, since, until time.Time, o deploymentsOptions) error {
	if env != "" {
		if _, err := w.Manifest.Environment(env); err != nil {
			return err
		}
	}
	m := a.mover(w)
	if o.attempts {
		return a.attempts(ctx, w, env, since, until, o.limit)
	}
	list, err := m.Deployments(ctx, env, since, until)
	if err != nil {
		return err
	}
	if o.html != "" || o.sheet != "" {
		return a.writeReport(ctx, m, w, env, since, until, list, o)
	}
	total := len(list)
	if o.limit > 0 && !a.json && !o.byItem { // where an item went is known from all of them
		list = list[:min(o.limit, len(list))]
	}
	switch {
	case a.json:
		out := result.Deployments{Deployments: []result.Record{}}
		for _, r := range list {
			out.Deployments = append(out.Deployments, result.RecordOf(r))
		}
		a.print(out)
	case len(list) == 0:
		a.say("Nothing was deployed.")
	case o.byItem:
		a.showItems(report.ByItem(list))
	default:
		a.showDeployments(list)
		if left := total - len(list); left > 0 {
			a.say("%s", a.paint(faint, fmt.Sprintf("and %d more: --limit 0", left)))
		}
	}
	return nil
}

// wayOf says what a deployment was.
func wayOf(r pipeline.Record) string {
	if r.Account == nil {
		return "deployed"
	}
	switch r.Account.Action {
	case pipeline.ActionPromote:
		return "promoted from " + r.Account.Origin
	case pipeline.ActionBackfill:
		return "brought back"
	case pipeline.ActionWithdraw:
		return strings.TrimPrefix(r.Source, pipeline.ActionWithdraw+" ") + " withdrawn"
	case pipeline.ActionSettle:
		return "settled"
	}
	return "deployed"
}

// reasonOf says what a reason was given for.
func reasonOf(r pipeline.Record) string {
	if r.Account.Action == pipeline.ActionWithdraw {
		return "withdrawn: "
	}
	return "overridden: "
}

// attempts lists what was refused or failed.
func (a *App) attempts(ctx context.Context, w *workspace.Workspace, env string, since, until time.Time, limit int) error {
	all, err := w.Chest.Attempts(ctx, env)
	if err != nil {
		return err
	}
	rows, list := [][]cell{}, []result.Attempt{}
	for _, x := range all {
		if !since.IsZero() && x.Time.Before(since) || !until.IsZero() && !x.Time.Before(until) || limit > 0 &&
			len(list) == limit && !a.json {
			continue
		}
		list = append(list, result.AttemptOf(x))
		rows = append(rows, []cell{{clock(x.Time), plain}, {x.Environment, strong}, {x.Action, plain}, {x.Person, plain}, {x.Outcome, warm},
			{oneLine(x.Said, 90), plain}})
	}
	switch {
	case a.json:
		a.print(result.Attempts{Attempts: list})
	case len(rows) == 0:
		a.say("Nothing was refused, and nothing failed.")
	default:
		a.table(a.Out, "", rows)
	}
	return nil
}

func (a *App) showDeployments(list []pipeline.Record) {
	var rows [][]cell
	for _, r := range list {
		items, note := "", cell{}
		if r.Account != nil {
			items = strings.Join(r.Account.Items, ", ")
			if r.Account.Reason != "" {
				note = cell{reasonOf(r) + oneLine(r.Account.Reason, 40), warm}
			}
		}
		if r.Undone != nil {
			note = cell{"taken back by " + r.Undone.Author + ", " + clock(r.Undone.Time), warm}
		}
		rows = append(rows, []cell{{strconv.FormatInt(r.Number, 10), strong}, {clock(r.Time), plain}, {r.Environment, strong},
			{workspace.Label(r.Commit), plain}, {wayOf(r), plain}, {r.Author, plain}, {count(r.Deployment.Steps, "step"), faint},
			{gist(items, 30), plain}, note})
	}
	a.table(a.Out, "", rows)
}

func (a *App) showItems(list []report.Item) {
	for _, it := range list {
		name := it.Key
		if name == "" {
			name = "without an item"
		}
		a.say("%s", a.paint(strong, name))
		var rows [][]cell
		for _, g := range it.Goes {
			rows = append(rows, []cell{{g.Environment, plain}, {clock(g.Time), plain}, {g.State, plain},
				{"deployment " + strconv.FormatInt(g.Number, 10), faint}})
		}
		a.table(a.Out, "  ", rows)
	}
}

func (a *App) writeReport(ctx context.Context, m *pipeline.Mover, w *workspace.Workspace, env string, since, until time.Time,
	list []pipeline.Record, o deploymentsOptions) error {
	full := make([]pipeline.Record, 0, len(list))
	for _, r := range list {
		whole, err := m.Record(ctx, r.Number)
		if err != nil {
			return err
		}
		full = append(full, *whole)
	}
	r := report.New(w.Manifest.Project, env, since, until, full)
	files := map[string]func(string) error{}
	if o.html != "" {
		files[o.html] = func(p string) error {
			return writeTo(p, func(out *strings.Builder) error { return board.Report(out, r) })
		}
	}
	if o.sheet != "" {
		files[o.sheet] = func(p string) error {
			data, err := r.Sheet()
			if err != nil {
				return err
			}
			return writeWhole(p, data)
		}
	}
	var names []string
	for _, name := range sortedNames(files) {
		if err := files[name](a.at(name)); err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", name, err)
		}
		a.keepApart(name)
		names = append(names, name)
	}
	if a.json {
		a.print(result.Report{Deployments: len(full), Files: names})
		return nil
	}
	a.say("%s written to %s.", count(len(full), "deployment"), strings.Join(names, " and "))
	return nil
}

// writeTo writes a file whole that is made as text.
func writeTo(p string, make func(*strings.Builder) error) error {
	var out strings.Builder
	if err := make(&out); err != nil {
		return err
	}
	return writeWhole(p, []byte(out.String()))
}

func newDeploymentsShow(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "show NUMBER",
		Short:             "Show one deployment whole: what changed, the gates, the statements",
		Example:           "  oaken deployments show 12",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := deploymentNumber(cmd, args[0])
			if err != nil {
				return err
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				r, err := a.mover(w).Record(cmd.Context(), n)
				if err != nil {
					return err
				}
				a.showRecord(r)
				return nil
			})
		},
	}
}

func deploymentNumber(cmd *cobra.Command, text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usage(cmd, "%q is no number of a deployment.", text)
	}
	return n, nil
}

func (a *App) showRecord(r *pipeline.Record) {
	if a.json {
		a.print(result.DeploymentOf(*r))
		return
	}
	a.say("Deployment %d: %s %s, %s", r.Number, a.paint(strong, r.Environment), wayOf(*r), workspace.Label(r.Commit))
	took := ""
	if r.Account != nil {
		took = fmt.Sprintf(", in %s", r.Account.Took.Round(time.Millisecond))
	}
	a.say("  by %s on %s%s", r.Author, clock(r.Time), took)
	if r.Account != nil && len(r.Account.Items) > 0 {
		a.say("  items: %s", strings.Join(r.Account.Items, ", "))
	}
	if r.Account != nil && r.Account.Reason != "" {
		a.say("  %s", a.paint(warm, reasonOf(*r)+r.Account.Reason))
	}
	if r.Plan != nil {
		a.say("  followed plan %s of %s, made by %s, approved by %s", shortSum(r.Plan.Sum()), clock(r.Plan.Made), r.Plan.By,
			strings.Join(r.PlanBy, ", "))
	}
	if r.Undone != nil {
		a.say("  %s", a.paint(warm, "taken back by "+r.Undone.Author+" on "+clock(r.Undone.Time)))
	}
	a.showGates(r.Gates)
	for _, g := range r.Gates {
		if g.Output != "" {
			a.say("\n%s\n%s", a.paint(strong, "Output of "+g.Name), strings.TrimRight(g.Output, "\n"))
		}
	}
	if len(r.Differences) > 0 {
		a.say("\n%s", a.paint(strong, "What became different"))
		a.showDifferences(r.Differences, false)
	}
	if len(r.Steps) > 0 {
		a.say("\n%s", a.paint(strong, "Steps"))
	}
	for i, s := range r.Steps {
		effect := s.Effect
		if s.Loss != "" {
			effect += ": " + s.Loss
		}
		a.say("  %d. %s  %s  %s", i+1, s.Address, oneLine(s.What, 100), a.paint(faint, "["+effect+"]"))
		for _, stmt := range s.Statements {
			a.say("%s", a.paint(faint, "       "+strings.ReplaceAll(stmt, "\n", "\n       ")+";"))
		}
	}
}

func newDeploymentsCompare(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "compare NUMBER NUMBER",
		Short:             "Compare what two deployments left",
		Example:           "  oaken deployments compare 9 12",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			one, err := deploymentNumber(cmd, args[0])
			if err != nil {
				return err
			}
			other, err := deploymentNumber(cmd, args[1])
			if err != nil {
				return err
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				x, y, diffs, err := a.mover(w).CompareDeployments(cmd.Context(), one, other)
				if err != nil {
					return err
				}
				if a.json {
					a.print(result.Compared{From: workspace.Label(x.Commit), To: workspace.Label(y.Commit),
						Changes: result.ChangesOf(diffs)})
					return nil
				}
				a.say("From deployment %d (%s, %s) to %d (%s, %s):", x.Number, x.Environment, workspace.Label(x.Commit), y.Number,
					y.Environment, workspace.Label(y.Commit))
				if len(diffs) == 0 {
					a.say("  nothing differs")
				}
				a.showDifferences(diffs, false)
				return nil
			})
		},
	}
}
