package cli

import (
	"context"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/environment"
	"oakenchest/core/ledger"
	"oakenchest/core/pipeline"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newBranch(a *App) *cobra.Command {
	var from, env string
	cmd := &cobra.Command{
		Use:   "branch [NAME]",
		Short: "Make a branch, or list them",
		Long: `Make a branch at the commit that the workspace stands on, or at the one that
--from names; oaken go then works on it. Without a name, list the branches.

--env gives the branch an environment of its own, under its name: a database that is
not there yet is made, everything is deployed into it, tracked rows included, and a
first commit of the branch declares it.`,
		Example:           "  oaken branch\n  oaken branch kelp --from release:spring\n  oaken branch kelp --env sqlite:kelp.db",
		GroupID:           groupBranches,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.makeBranch(cmd, w, args[0], from, env) })
			}
			if from != "" || env != "" {
				return usage(cmd, "--from and --env need the name of the new branch.")
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.listBranches(cmd.Context(), w) })
		},
	}
	cmd.Flags().StringVar(&from, "from", "", "begin at `STATE`")
	cmd.Flags().StringVar(&env, "env", "", "make a database for the branch at `TARGET`, and deploy everything into it")
	_ = cmd.RegisterFlagCompletionFunc("from", a.completeStates)
	_ = cmd.RegisterFlagCompletionFunc("env", cobra.NoFileCompletions)
	return cmd
}

func (a *App) makeBranch(cmd *cobra.Command, w *workspace.Workspace, name, from, env string) error {
	at := w.Base
	if from != "" {
		var err error
		if at, err = a.asked(w).Commit(cmd.Context(), from); err != nil {
			return err
		}
	}
	if at.ID == (ledger.ID{}) {
		return usage(cmd, "There is no commit yet that a branch could begin at.")
	}
	if from == "" {
		from = workspace.Label(at)
	}
	branch := ledger.Branch{Name: name, Tip: at.ID, Origin: from, Author: w.Person, Time: a.Now()}
	if env != "" {
		return a.makeFresh(cmd.Context(), w, branch, at, env)
	}
	if err := w.Chest.AddBranch(cmd.Context(), branch); err != nil {
		return err
	}
	if a.JSON {
		a.print(result.Branched{Branch: name, Tip: at.ID.String()})
		return nil
	}
	a.Say("Branch %s begins at %s. Work on it with oaken go %s.", a.Paint(screen.Strong, name), workspace.Label(at), name)
	return nil
}

// makeFresh makes a branch with an environment of its own.
func (a *App) makeFresh(ctx context.Context, w *workspace.Workspace, b ledger.Branch, at ledger.Commit, target string) error {
	show := a.Progress()
	if err := environment.CheckTarget(target); err != nil {
		return err
	}
	if err := a.agreeTo(w, pipeline.FreshEnvironment(b.Name, target)); err != nil { // the person has just written it
		return err
	}
	f, err := a.mover(w).Branch(ctx, b, at, target, func(step, of int) {
		if show != nil {
			show("running steps", step, of)
		}
	})
	a.EndProgress()
	if err != nil {
		return err
	}
	if a.JSON {
		made := result.EnvironmentOf(f.Environment)
		a.print(result.Branched{Branch: b.Name, Tip: f.Commit.ID.String(), Environment: &made})
		return nil
	}
	a.Say("Branch %s begins at %s. Work on it with oaken go %s.", a.Paint(screen.Strong, b.Name), workspace.Label(at), b.Name)
	a.Say("Its environment %s is %s: %s done, it holds what %s declares.", a.Paint(screen.Strong, f.Environment.Name), target,
		screen.Count(f.Steps, "step"), workspace.Label(at))
	return nil
}

func (a *App) listBranches(ctx context.Context, w *workspace.Workspace) error {
	list, err := a.asked(w).Branches(ctx)
	if err != nil {
		return err
	}
	if a.JSON {
		a.print(service.BranchesResult(list))
		return nil
	}
	var rows [][]screen.Cell
	for _, b := range list {
		here, when := "", ""
		if b.Here {
			here = "you are here"
		}
		if b.Newest.ID != (ledger.ID{}) {
			when = screen.Clock(b.Newest.Time) + "  " + b.Newest.Author
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(b.Name), screen.Plain.Cell(workspace.Label(b.Newest)), screen.Faint.Cell(when),
			screen.Plain.Cell(screen.OneLine(screen.FirstLine(b.Newest.Message), 60)), screen.Good.Cell(here)})
	}
	a.Table(a.Out, "", rows)
	return nil
}

// warnHere tells who else is at what is edited or locked in this workspace.
func (a *App) warnHere(ctx context.Context, w *workspace.Workspace) error {
	if a.Quiet {
		return nil
	}
	list, err := a.asked(w).Nearby(ctx)
	if err != nil {
		return err
	}
	a.showWarnings(list)
	return nil
}

func newGo(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "go NAME",
		Short: "Work on another branch",
		Long: "Bring the workspace to the newest commit of a branch. Edits of files that are alike on\n" +
			"both branches come along; an edit that would be overwritten is refused.",
		Example:           "  oaken go kelp",
		GroupID:           groupBranches,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeBranches,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				t, err := w.Switch(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.Went{Branch: w.Branch, State: workspace.Label(w.Base), Written: t.Written, Removed: t.Removed})
					return nil
				}
				a.Say("On %s now: %s written, %d removed.", a.Paint(screen.Strong, standing(w)), screen.Count(t.Written, "file"), t.Removed)
				return a.warnHere(cmd.Context(), w)
			})
		},
	}
}
