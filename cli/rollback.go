package cli

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newRollback(a *App) *cobra.Command {
	var o deployOptions
	var lost string
	var to int64
	cmd := &cobra.Command{
		Use:   "rollback ENV",
		Short: "Bring an environment back to what it was before the last deployment",
		Long: `Make an environment hold again what it held before the last deployment, and put
the data back that this lost. What somebody changed there since is taken back too:
look at the steps first, with --dry-run. Called again, it goes one deployment
further back; --to goes back to what an earlier deployment left, by its number in oaken
deployments ENV. --lost writes the rows that the last deployment lost into a folder, as
CSV, and changes nothing.

What is taken back is not there: it is not owed, and no hot fix or merge brings it again.
Where the environment has a branch of its own, a commit takes it back from that too. A
promotion that would bring it again says so, and needs --again.`,
		Example: "  oaken rollback test --dry-run\n  oaken rollback test\n  oaken rollback test --to 12\n" +
			"  oaken rollback live --lost kept-rows",
		GroupID:           groupPipeline,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				m := a.mover(w)
				var err error
				if err = o.tell(m); err != nil {
					return err
				}
				if lost != "" {
					files, err := m.Lost(cmd.Context(), args[0])
					if err != nil {
						return err
					}
					return a.writeLost(args[0], lost, files)
				}
				r, err := m.PrepareRollback(cmd.Context(), args[0], to)
				if err != nil {
					return err
				}
				defer r.Close()
				for _, text := range r.Filled {
					a.Note("%s", text)
				}
				o.ask = "Take this back in " + args[0] + "?"
				a.showTakes(r)
				if err := a.carryOut(cmd.Context(), &r.Deployment, "", o,
					func(p pipeline.DeployOptions) error { return m.Rollback(cmd.Context(), r, p) }); err != nil {
					return err
				}
				a.showTaken(r)
				return nil
			})
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&o.reason, "reason", "", "why it is taken back, `TEXT`")
	_ = cmd.RegisterFlagCompletionFunc("reason", cobra.NoFileCompletions)
	cmd.Flags().StringVar(&lost, "lost", "", "write the rows that the last deployment lost into `FOLDER`")
	cmd.Flags().Int64Var(&to, "to", 0, "go back to what the deployment `NUMBER` left")
	cmd.MarkFlagsMutuallyExclusive("lost", "to")
	cmd.MarkFlagsMutuallyExclusive("lost", "dry-run", "script")
	_ = cmd.MarkFlagDirname("lost")
	_ = cmd.RegisterFlagCompletionFunc("to", cobra.NoFileCompletions)
	return cmd
}

// showTakes says what a rollback takes back.
func (a *App) showTakes(r *pipeline.Rollback) {
	if a.JSON || len(r.Takes) == 0 {
		return
	}
	a.Say("Takes back from %s:", r.Environment.Name)
	var rows [][]screen.Cell
	for _, c := range r.Takes {
		rows = append(rows, []screen.Cell{screen.Strong.Cell(workspace.Label(c)), screen.Plain.Cell(c.Item),
			screen.Plain.Cell(screen.OneLine(screen.FirstLine(c.Message), 50)),
			screen.Faint.Cell(c.Author)})
	}
	a.Table(a.Out, "  ", rows)
}

// showTaken says what became of the branch.
func (a *App) showTaken(r *pipeline.Rollback) {
	switch {
	case a.JSON:
	case r.Made != nil:
		a.Say("%s takes it back from the branch.", a.Paint(screen.Strong, workspace.Label(*r.Made)))
	case r.StillOn != "":
		a.Note("Branch %s has it still. A promotion asks before it brings it again.", r.StillOn)
	}
}

// writeLost writes rows that a deployment lost into a folder of their own.
func (a *App) writeLost(env, folder string, files environment.Files) error {
	if len(files) == 0 {
		return fault.New(fault.Refused, "oaken drift shows what was deployed last.", "The last deployment to %s lost nothing.", env)
	}
	for name, data := range files {
		target := filepath.Join(a.at(folder), filepath.FromSlash(name))
		err := os.MkdirAll(filepath.Dir(target), 0o700) // rows are nobody else's
		if err == nil {
			err = writeWhole(target, data)
		}
		if err == nil {
			err = os.Chmod(target, 0o600)
		}
		if err != nil {
			return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", folder, err)
		}
	}
	if a.JSON {
		a.print(result.Lost{Environment: env, Folder: folder, Files: sortedNames(files)})
		return nil
	}
	a.Say("What the last deployment to %s lost is in %s: %s.", env, folder, screen.Count(len(files), "file"))
	return nil
}
