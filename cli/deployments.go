package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/board"
	"oakenchest/cli/screen"
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
	cmd.AddCommand(newDeploymentsShow(a), newDeploymentsCompare(a), newDeploymentsProve(a))
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
	if o.limit > 0 && !a.JSON && !o.byItem { // where an item went is known from all of them
		list = list[:min(o.limit, len(list))]
	}
	switch {
	case a.JSON:
		out := result.Deployments{Deployments: []result.Record{}}
		for _, r := range list {
			out.Deployments = append(out.Deployments, result.RecordOf(r))
		}
		a.print(out)
	case len(list) == 0:
		a.Say("Nothing was deployed.")
	case o.byItem:
		a.showItems(report.ByItem(list))
	default:
		a.showDeployments(list)
		if left := total - len(list); left > 0 {
			a.Say("%s", a.Paint(screen.Faint, fmt.Sprintf("and %d more: --limit 0", left)))
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
	case pipeline.ActionRefresh:
		return "refreshed" + strings.TrimPrefix(r.Source, pipeline.ActionRefresh)
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
	rows, list := [][]screen.Cell{}, []result.Attempt{}
	for _, x := range all {
		if !since.IsZero() && x.Time.Before(since) || !until.IsZero() && !x.Time.Before(until) || limit > 0 &&
			len(list) == limit && !a.JSON {
			continue
		}
		list = append(list, result.AttemptOf(x))
		rows = append(rows, []screen.Cell{screen.Plain.Cell(screen.Clock(x.Time)), screen.Strong.Cell(x.Environment),
			screen.Plain.Cell(x.Action), screen.Plain.Cell(x.Person), screen.Warm.Cell(x.Outcome),
			screen.Plain.Cell(screen.OneLine(x.Said, 90))})
	}
	switch {
	case a.JSON:
		a.print(result.Attempts{Attempts: list})
	case len(rows) == 0:
		a.Say("Nothing was refused, and nothing failed.")
	default:
		a.Table(a.Out, "", rows)
	}
	return nil
}

func (a *App) showDeployments(list []pipeline.Record) {
	var rows [][]screen.Cell
	for _, r := range list {
		items, note := "", screen.Cell{}
		if r.Account != nil {
			items = strings.Join(r.Account.Items, ", ")
			if r.Account.Reason != "" {
				note = screen.Warm.Cell(reasonOf(r) + screen.OneLine(r.Account.Reason, 40))
			}
		}
		if r.Undone != nil {
			note = screen.Warm.Cell("taken back by " + r.Undone.Author + ", " + screen.Clock(r.Undone.Time))
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(strconv.FormatInt(r.Number, 10)), screen.Plain.Cell(screen.Clock(r.Time)),
			screen.Strong.Cell(r.Environment),
			screen.Plain.Cell(workspace.Label(r.Commit)), screen.Plain.Cell(wayOf(r)), screen.Plain.Cell(r.Author),
			screen.Faint.Cell(screen.Count(r.Deployment.Steps, "step")),
			screen.Plain.Cell(screen.Gist(items, 30)), note})
	}
	a.Table(a.Out, "", rows)
}

func (a *App) showItems(list []report.Item) {
	for _, it := range list {
		name := it.Key
		if name == "" {
			name = "without an item"
		}
		a.Say("%s", a.Paint(screen.Strong, name))
		var rows [][]screen.Cell
		for _, g := range it.Goes {
			rows = append(rows, []screen.Cell{screen.Plain.Cell(g.Environment), screen.Plain.Cell(screen.Clock(g.Time)),
				screen.Plain.Cell(g.State),
				screen.Faint.Cell("deployment " + strconv.FormatInt(g.Number, 10))})
		}
		a.Table(a.Out, "  ", rows)
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
	if a.JSON {
		a.print(result.Report{Deployments: len(full), Files: names})
		return nil
	}
	a.Say("%s written to %s.", screen.Count(len(full), "deployment"), strings.Join(names, " and "))
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
	if a.JSON {
		a.print(result.DeploymentOf(*r))
		return
	}
	a.Say("Deployment %d: %s %s, %s", r.Number, a.Paint(screen.Strong, r.Environment), wayOf(*r), workspace.Label(r.Commit))
	took := ""
	if r.Account != nil {
		took = fmt.Sprintf(", in %s", r.Account.Took.Round(time.Millisecond))
	}
	a.Say("  by %s on %s%s", r.Author, screen.Clock(r.Time), took)
	if r.Account != nil && len(r.Account.Items) > 0 {
		a.Say("  items: %s", strings.Join(r.Account.Items, ", "))
	}
	if r.Account != nil && r.Account.Reason != "" {
		a.Say("  %s", a.Paint(screen.Warm, reasonOf(*r)+r.Account.Reason))
	}
	if r.Plan != nil {
		a.Say("  followed plan %s of %s, made by %s, approved by %s", shortSum(r.Plan.Sum()), screen.Clock(r.Plan.Made), r.Plan.By,
			strings.Join(r.PlanBy, ", "))
	}
	if r.Undone != nil {
		a.Say("  %s", a.Paint(screen.Warm, "taken back by "+r.Undone.Author+" on "+screen.Clock(r.Undone.Time)))
	}
	a.showGates(r.Gates)
	a.showAfter(r.After)
	for _, g := range r.Gates {
		if g.Output != "" {
			a.Say("\n%s\n%s", a.Paint(screen.Strong, "Output of "+g.Name), strings.TrimRight(g.Output, "\n"))
		}
	}
	if len(r.Differences) > 0 {
		a.Say("\n%s", a.Paint(screen.Strong, "What became different"))
		a.showDifferences(r.Differences, false)
	}
	if len(r.Steps) > 0 {
		a.Say("\n%s", a.Paint(screen.Strong, "Steps"))
	}
	for i, s := range r.Steps {
		effect := s.Effect
		if s.Loss != "" {
			effect += ": " + s.Loss
		}
		a.Say("  %d. %s  %s  %s", i+1, s.Address, screen.OneLine(s.What, 100), a.Paint(screen.Faint, "["+effect+"]"))
		for _, stmt := range s.Statements {
			a.Say("%s", a.Paint(screen.Faint, "       "+strings.ReplaceAll(stmt, "\n", "\n       ")+";"))
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
				if a.JSON {
					a.print(result.Compared{From: workspace.Label(x.Commit), To: workspace.Label(y.Commit),
						Changes: result.ChangesOf(diffs)})
					return nil
				}
				a.Say("From deployment %d (%s, %s) to %d (%s, %s):", x.Number, x.Environment, workspace.Label(x.Commit), y.Number,
					y.Environment, workspace.Label(y.Commit))
				if len(diffs) == 0 {
					a.Say("  nothing differs")
				}
				a.showDifferences(diffs, false)
				return nil
			})
		},
	}
}
