package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type releasePlanOptions struct {
	items, without []string
	message, notes string
	drop, all      bool
}

func newReleasePlan(a *App) *cobra.Command {
	var o releasePlanOptions
	cmd := &cobra.Command{
		Use:   "plan [NAME]",
		Short: "Plan a release as a list of items, before it ships",
		Long: `Write down which work items a release is to have, and see how each environment stands
to it: complete, what it lacks, what it has more. Without a name, list the releases that
are planned. --item adds items, --without takes some out, --notes writes what it brings,
from the messages of its work. oaken promote FROM TO --release NAME moves the work of its
items as one. When all of them are live it becomes a release of that name.`,
		Example: "  oaken release plan june --item AQ-31 --item AQ-77 -m \"The jubilee\"\n  oaken release plan june\n" +
			"  oaken release plan june --notes june.md\n  oaken release plan",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeBundles,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				if len(o.items)+len(o.without) > 0 || o.drop || o.notes != "" {
					return usage(cmd, "Name the release.")
				}
				return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.listBundles(cmd.Context(), w, o.all) })
			}
			if len(o.items)+len(o.without) == 0 && !o.drop && o.message == "" {
				return a.look(cmd.Context(), func(w *workspace.Workspace) error {
					v, err := a.mover(w).Bundle(cmd.Context(), args[0])
					if err != nil {
						return err
					}
					return a.showBundle(v, o.notes)
				})
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.planRelease(cmd.Context(), w, args[0], o) })
		},
	}
	f := cmd.Flags()
	f.StringSliceVar(&o.items, "item", nil, "add the item `KEY`")
	f.StringSliceVar(&o.without, "without", nil, "take the item `KEY` out")
	f.StringVarP(&o.message, "message", "m", "", "say what it is for: `TEXT`")
	f.StringVar(&o.notes, "notes", "", "write its notes to `FILE`")
	f.BoolVar(&o.drop, "drop", false, "plan it no longer")
	f.BoolVar(&o.all, "all", false, "list those that shipped or were dropped too")
	for _, name := range []string{"item", "without", "message"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
	_ = cmd.MarkFlagFilename("notes", "md")
	for _, name := range []string{"item", "without", "message", "notes"} {
		cmd.MarkFlagsMutuallyExclusive("drop", name)
	}
	return cmd
}

// completeBundles offers the releases that are planned.
func (a *App) completeBundles(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if len(args) == 0 {
		a.quietly(cmd, func(w *workspace.Workspace) {
			list, _ := a.mover(w).Bundles(cmd.Context(), false)
			for _, b := range list {
				out = append(out, b.Name)
			}
		})
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) planRelease(ctx context.Context, w *workspace.Workspace, name string, o releasePlanOptions) error {
	m := a.mover(w)
	if o.drop {
		if err := m.DropBundle(ctx, name); err != nil {
			return err
		}
		if a.JSON {
			a.print(result.Bundles{Planned: []result.Bundle{}})
			return nil
		}
		a.Say("%s is planned no longer. What was promoted stays where it is.", a.Paint(screen.Strong, name))
		return nil
	}
	v, err := m.PlanRelease(ctx, name, o.items, o.without, o.message)
	if err != nil {
		return err
	}
	return a.showBundle(v, o.notes)
}

func (a *App) showBundle(v *pipeline.BundleView, notes string) error {
	if notes != "" {
		if err := writeWhole(a.at(notes), []byte(v.Notes())); err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", notes, err)
		}
		a.keepApart(notes)
	}
	if a.JSON {
		a.print(result.BundleOf(v))
		return nil
	}
	a.Say("%s  %s", a.Paint(screen.Strong, v.Name), a.Paint(screen.Faint, screen.Gist(screen.FirstLine(v.Text), 80)))
	var rows [][]screen.Cell
	for _, it := range v.Items {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(it.Key), screen.Plain.Cell(screen.OneLine(it.Title(), 50)),
			screen.Faint.Cell(pieces(len(it.Work)))})
	}
	for _, key := range v.Unknown {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(key), screen.Warm.Cell("no work for it is known")})
	}
	a.Table(a.Out, "  ", rows)
	a.Say("")
	rows = nil
	for _, s := range v.Stages {
		word, tone := "lacks "+strings.Join(s.Lacks, ", "), screen.Plain
		if s.Complete {
			word, tone = "complete", screen.Good
		}
		more := ""
		if len(s.More) > 0 {
			more = "has more: " + strings.Join(s.More, ", ")
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(s.Environment), tone.Cell(word), screen.Warm.Cell(more)})
	}
	a.Table(a.Out, "  ", rows)
	if notes != "" {
		a.Say("Its notes are in %s.", notes)
	}
	return nil
}

func pieces(n int) string {
	if n == 1 {
		return "1 piece of work"
	}
	return screen.Count(n, "piece") + " of work"
}

func (a *App) listBundles(ctx context.Context, w *workspace.Workspace, all bool) error {
	list, err := a.mover(w).Bundles(ctx, all)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(result.BundlesOf(list))
		return nil
	}
	var rows [][]screen.Cell
	for _, b := range list {
		word := "planned"
		if b.Outcome != "" {
			word = b.Outcome + " " + screen.Clock(b.Ended)
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(b.Name), screen.Plain.Cell(word),
			screen.Plain.Cell(strings.Join(b.Items, ", ")),
			screen.Faint.Cell(b.Person), screen.Plain.Cell(screen.Gist(screen.FirstLine(b.Text), 60))})
	}
	if len(rows) == 0 {
		a.Say("No release is planned. oaken release plan NAME --item KEY plans one.")
	}
	a.Table(a.Out, "", rows)
	return nil
}
