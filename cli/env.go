package cli

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/declare"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/service"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

func newEnv(a *App) *cobra.Command {
	cmd := &cobra.Command{
		Use:               "env",
		Short:             "Declare and list environments",
		Long:              "Environments are live targets, such as the databases of development and test. They\nare declared in oaken.toml.",
		Example:           "  oaken env add dev sqlite:dev.db --into database\n  oaken env list",
		GroupID:           groupEnvironments,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newEnvAdd(a), newEnvList(a), newEnvRename(a), newEnvRemove(a), newEnvPrepare(a), newEnvRefresh(a))
	return cmd
}

func newEnvAdd(a *App) *cobra.Command {
	var into, tier, lane, branch, runs string
	var after, gates []string
	var stop bool
	cmd := &cobra.Command{
		Use:   "add NAME TARGET",
		Short: "Declare an environment",
		Long: `Declare an environment in oaken.toml. TARGET is a URL, for example sqlite:dev.db,
whose path is taken from the project's folder. --into names the folder of the
project that holds what the environment holds, one file for each object.

A database file that lies in the project is never recorded itself: one that was recorded
so far needs --stop-recording, leaves the records with the next commit, and stays on
everybody's disk. A secret is
not written into TARGET: write ${NAME} for the variable that holds it.

--tier, --lane and --branch give it its place in the pipeline; --after declares a move
to it from another environment, and --gate what work must pass on that way; targets that go with
it, controllers, gates and notes are written in oaken.toml.`,
		Example: "  oaken env add dev sqlite:dev.db --into database\n  oaken env add test sqlite:test.db\n" +
			"  oaken env add live sqlite:live.db --tier live --branch live --after test --gate tested",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				e := manifest.Environment{Name: args[0], Site: manifest.Site{Target: args[1], Into: path.Clean(filepath.ToSlash(into))},
					Tier: manifest.Tier(tier), Lane: lane, Branch: branch, Runs: manifest.Runs(runs)}
				return a.addEnvironment(w, e, after, gates, cmd.Flags().Changed("into"), stop)
			})
		},
	}
	cmd.Flags().StringVar(&into, "into", "database", "the project's `FOLDER` for what the environment holds")
	cmd.Flags().StringVar(&tier, "tier", "", "what it is for: `TIER`, development to live")
	cmd.Flags().StringVar(&lane, "lane", "", "the lane that it belongs to, `NAME`")
	cmd.Flags().StringVar(&branch, "branch", "", "the branch that work is merged into for it, `NAME`")
	cmd.Flags().StringVar(&runs, "runs", "", "where a server keeps the project: reach it from the `PLACE` person or server")
	cmd.Flags().BoolVar(&stop, "stop-recording", false,
		"let a database file that is recorded be an environment from now on, and no file of the project")
	cmd.Flags().StringSliceVar(&after, "after", nil, "let a move lead to it from the environment `ENV`")
	cmd.Flags().StringSliceVar(&gates, "gate", nil, "a `GATE` that work must pass on its way there")
	_ = cmd.RegisterFlagCompletionFunc("after", a.completeEnvironments)
	_ = cmd.RegisterFlagCompletionFunc("gate", a.completeGates)
	_ = cmd.MarkFlagDirname("into")
	_ = cmd.RegisterFlagCompletionFunc("tier", completeTiers)
	_ = cmd.RegisterFlagCompletionFunc("runs", cobra.FixedCompletions([]string{string(manifest.RunsPerson), string(manifest.RunsServer)},
		cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("lane", a.completeLanes)
	_ = cmd.RegisterFlagCompletionFunc("branch", a.completeBranches)
	return cmd
}

// completeTiers offers tiers.
func completeTiers(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	var out []string
	for _, t := range manifest.Tiers {
		out = append(out, string(t))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *App) addEnvironment(w *workspace.Workspace, e manifest.Environment, after, gates []string, chosen, stop bool) error {
	if len(gates) > 0 && len(after) == 0 {
		return fault.New(fault.Usage, "Name where work comes from: --after ENV.", "A gate is one of a move.")
	}
	for _, from := range after {
		if _, err := w.Manifest.Environment(from); err != nil {
			return err
		}
	}
	if file, disk, ok := e.Place(); ok && !disk.Folder && manifest.Inside(file) && !w.Offline {
		recorded, err := w.Recorded(file)
		if err != nil {
			return err
		}
		if recorded && !stop {
			return fault.New(fault.Refused,
				"To keep the file as it is: declare a copy of it, oaken env add "+fault.Word(e.Name)+" "+
					strings.TrimSuffix(e.Target, path.Base(file))+"COPY. To let it be an "+
					"environment: --stop-recording; it then leaves the records with the next commit, and stays on everybody's disk.",
				"%s is recorded as a file of the project, and an environment's database is not.", file)
		}
		if recorded {
			w.Free(file)
		}
	}
	kindName, err := environment.KindOf(e.Target)
	if err == nil {
		err = environment.CheckTarget(e.Target)
	}
	if err != nil {
		return err
	}
	if others := w.Manifest.Environments; !chosen && len(others) > 0 {
		e.Into = others[len(others)-1].Into
	}
	if err := manifest.CheckEnvironment(e); err != nil {
		return fault.New(fault.Usage, "See oaken help env add.", "The environment can't be declared: %w.", err)
	}
	if _, err := w.Manifest.Environment(e.Name); err == nil {
		return fault.New(fault.Refused, "Choose another name, or remove it first with oaken env remove "+fault.Word(e.Name)+".",
			"There is an environment %s already.", e.Name)
	}
	err = w.EditManifest(func(data []byte) ([]byte, error) {
		for _, from := range after {
			var err error
			if data, err = declare.Move(data, manifest.Move{From: from, To: e.Name, Gates: gates}); err != nil {
				return nil, err
			}
		}
		if other, ok := w.Manifest.Declared(e.Into); kindName == "" {
			return declare.Environment(data, e) // files of any kind
		} else if ok && other.Kind != kindName {
			return nil, fault.New(fault.Refused, "Choose another folder with --into.", "%s holds a %s, and %s is a %s.", e.Into, other.Kind,
				e.Target, kindName)
		} else if !ok {
			var err error
			if data, err = declare.Artifact(data, manifest.Artifact{Path: e.Into, Kind: kindName}); err != nil {
				return nil, err
			}
		}
		return declare.Environment(data, e)
	})
	if err != nil {
		return err
	}
	if a.JSON {
		made := result.EnvironmentOf(e)
		a.print(result.EnvironmentChanged{Environment: &made})
		return nil
	}
	if err := a.agreeTo(w, e); err != nil { // the person has just written it
		return err
	}
	a.Say("Environment %s is %s, kept in %s.", a.Paint(screen.Strong, e.Name), environment.Shown(e.Target), e.Into)
	if kindName == "" {
		a.Note("A folder has no transactions, no rows and no objects of its own: files are written one by one, and only whole files are " +
			"compared there.")
	}
	return nil
}

func newEnvList(a *App) *cobra.Command {
	return &cobra.Command{
		Use:               "list",
		Short:             "List the environments, and what was deployed to each",
		Example:           "  oaken env list",
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.listEnvironments(cmd.Context(), w) })
		},
	}
}

func (a *App) listEnvironments(ctx context.Context, w *workspace.Workspace) error {
	list, err := a.asked(w).Environments(ctx)
	if err != nil {
		return err
	}
	var rows [][]screen.Cell
	for _, e := range list {
		last, lacks, by := "nothing deployed yet", "", ""
		if e.Last != nil {
			last = workspace.Label(e.Has) + " by " + e.Last.Author + ", " + screen.Clock(e.Last.Time)
		}
		if n := len(e.Lacks.Lacks); n > 0 {
			lacks = fmt.Sprintf("lacks %s of %s", screen.Count(n, "commit"), e.Lacks.Branch)
		}
		if w.Chest.Served() && e.RunsAtServer() {
			by = "reached by the server"
		}
		rows = append(rows, []screen.Cell{screen.Strong.Cell(e.Name), screen.Plain.Cell(environment.Shown(e.Target)),
			screen.Plain.Cell(e.Into), screen.Faint.Cell(last), screen.Warm.Cell(lacks), screen.Faint.Cell(by)})
	}
	switch {
	case a.JSON:
		a.print(service.EnvironmentsResult(list))
	case len(rows) == 0:
		a.Say("There is no environment yet. Declare one with oaken env add NAME TARGET.")
	default:
		a.Table(a.Out, "", rows)
	}
	return nil
}

func newEnvRename(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "rename NAME NEW",
		Short: "Give an environment another name",
		Long: `Give an environment another name, in oaken.toml and in all that is recorded of it: what
it holds, deployments, approvals, bookings. Commit oaken.toml soon: whoever still has the
former name finds no record under it.`,
		Example:           "  oaken env rename test acceptance",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				return a.renameEnvironment(cmd.Context(), w,
					args[0], args[1])
			})
		},
	}
}

func (a *App) renameEnvironment(ctx context.Context, w *workspace.Workspace, from, to string) error {
	e, err := w.Manifest.Environment(from)
	if err != nil {
		return err
	}
	if e.Name = to; from == to {
		return fault.New(fault.Usage, "Give it another name.", "%s has that name.", from)
	}
	if err := manifest.CheckEnvironment(e); err != nil {
		return fault.New(fault.Usage, "See oaken help env add.", "The environment can't be called so: %w.", err)
	}
	if _, err := w.Manifest.Environment(to); err == nil {
		return fault.New(fault.Refused, "Choose another name.", "There is an environment %s already.", to)
	}
	text, err := w.ReadOwnManifest()
	if err != nil {
		return err
	}
	if _, err := declare.RenameEnvironment(text, from, to); err != nil {
		return fault.New(fault.Refused, "Rename it there by hand.", "It can't be renamed in oaken.toml: %w.", err)
	}
	if err := w.Chest.RenameEnvironment(ctx, from, to); err != nil {
		return err
	}
	old, err := w.Manifest.Environment(from)
	if err != nil {
		return err
	}
	if err := w.EditManifest(func(data []byte) ([]byte, error) { return declare.RenameEnvironment(data, from, to) }); err != nil {
		return err
	}
	if a.agreed(w, old) {
		if err := a.agreeTo(w, e); err != nil {
			return err
		}
	}
	if a.JSON {
		now := result.EnvironmentOf(e)
		a.print(result.EnvironmentChanged{Renamed: from, Environment: &now})
		return nil
	}
	a.Say("Environment %s is %s now, with all that is recorded of it. Commit oaken.toml soon.", from, a.Paint(screen.Strong, to))
	return nil
}

func newEnvRemove(a *App) *cobra.Command {
	var drop, allowLoss bool
	cmd := &cobra.Command{
		Use:   "remove NAME",
		Short: "Take an environment's declaration out of oaken.toml",
		Long: `Take an environment's declaration out of oaken.toml. The environment itself, its files in
the project, and what is recorded of it, stay as they are.

With --drop, the database goes too, when it was made by oaken branch --env: its branch is
done. What no commit knows of it, and rows, go only with --allow-loss, and are saved first.`,
		Example:           "  oaken env remove test\n  oaken env remove kelp --drop",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if _, err := w.Manifest.Environment(args[0]); err != nil {
					return err
				}
				saved := ""
				if drop {
					var err error
					if saved, err = a.mover(w).EndFresh(cmd.Context(), args[0], allowLoss); err != nil {
						return err
					}
				}
				err := w.EditManifest(func(data []byte) ([]byte, error) {
					out, err := declare.RemoveEnvironment(data, args[0])
					if err != nil {
						return nil, fault.New(fault.Refused, "Take it out by hand.", "It can't be taken out: %w.", err)
					}
					return out, nil
				})
				if err != nil {
					return err
				}
				if a.JSON {
					a.print(result.EnvironmentChanged{Removed: args[0], Dropped: &drop, Saved: &saved})
					return nil
				}
				if saved != "" {
					a.Say("Saved before: %s", saved)
				}
				what := "its target was not touched"
				if drop {
					what = "its database is dropped"
				}
				a.Say("Environment %s is no longer declared; %s.", args[0], what)
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&drop, "drop", false, "drop the database that was made for the branch")
	cmd.Flags().BoolVar(&allowLoss, "allow-loss", false, "consent to the loss of data; it is saved first")
	return cmd
}
