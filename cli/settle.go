package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

type settleOptions struct {
	prefer, plan, follow   string
	yes, dryRun, allowLoss bool
	commit                 bool
	message, item          string
}

func newSettle(a *App) *cobra.Command {
	var o settleOptions
	cmd := &cobra.Command{
		Use:   "settle ENV",
		Short: "Make an environment and the workspace agree, object by object",
		Long: `List the objects in which the workspace and an environment differ, and give each a
direction: to the chest, to the environment, or leave. What changed on one side
only since the last deployment goes to the other; --prefer decides otherwise. Of an
environment with several targets the objects of all are listed, by their addresses. On a
terminal the directions can be changed before anything is done. --plan writes them
into a file that people can read and edit; --follow carries such a file out, unless
something that it moves has changed since.`,
		Example: `  oaken settle dev
  oaken settle dev --prefer environment --yes
  oaken settle dev --plan settle.toml
  oaken settle dev --follow settle.toml --commit -m "Dev and the chest agree"`,
		GroupID:           groupEnvironments,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeEnvironments,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := o.check(cmd, a.yes); err != nil {
				return err
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error { return a.settle(cmd.Context(), w, args[0], o) })
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.prefer, "prefer", "", "the side that is right where they differ: chest, environment or neither (`SIDE`)")
	f.StringVar(&o.plan, "plan", "", "write the directions into `FILE` and change nothing")
	f.StringVar(&o.follow, "follow", "", "carry out the directions in `FILE`")
	f.BoolVar(&o.dryRun, "dry-run", false, "show the directions and the statements, and change nothing")
	f.BoolVar(&o.allowLoss, "allow-loss", false, "consent to the loss of data; it is saved first")
	f.BoolVar(&o.commit, "commit", false, "record the result")
	f.StringVarP(&o.message, "message", "m", "", "what the commit is for, `TEXT`")
	f.StringVar(&o.item, "item", "", "the work item that the commit is for, `KEY`")
	cmd.MarkFlagsMutuallyExclusive("plan", "follow")
	cmd.MarkFlagsMutuallyExclusive("prefer", "follow")
	_ = cmd.RegisterFlagCompletionFunc("prefer", cobra.FixedCompletions([]string{"chest", "environment", "neither"},
		cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("message", cobra.NoFileCompletions)
	_ = cmd.RegisterFlagCompletionFunc("item", cobra.NoFileCompletions)
	_ = cmd.MarkFlagFilename("plan", "toml")
	_ = cmd.MarkFlagFilename("follow", "toml")
	return cmd
}

func (o *settleOptions) check(cmd *cobra.Command, yes bool) error {
	if o.plan != "" && yes {
		return usage(cmd, "--plan writes the directions into a file; --yes carries them out.")
	}
	switch pipeline.Prefer(o.prefer) {
	case pipeline.PreferNone, pipeline.PreferChest, pipeline.PreferEnvironment, pipeline.PreferNeither:
	default:
		return usage(cmd, "--prefer %s is none of chest, environment and neither.", o.prefer)
	}
	if o.commit && strings.TrimSpace(o.message) == "" {
		return usage(cmd, "A commit needs a message: -m TEXT.")
	}
	if !o.commit && (o.message != "" || o.item != "") {
		return usage(cmd, "-m and --item go with --commit.")
	}
	return nil
}

func (a *App) settle(ctx context.Context, w *workspace.Workspace, env string, o settleOptions) error {
	o.yes = a.yes
	m := a.mover(w)
	s, err := m.PrepareSettle(ctx, env, pipeline.Prefer(o.prefer))
	if err != nil {
		return err
	}
	defer s.Close()
	switch {
	case o.plan != "":
		return a.writeSettlePlan(s, env, o.plan)
	case o.follow != "":
		if err := a.follow(s, o.follow); err != nil {
			return err
		}
	case a.Keys != nil && !a.JSON && !o.yes && !o.dryRun && len(s.Plan.Objects) > 0:
		if ok, err := a.pick(env, s.Plan.Objects); err != nil || !ok {
			if err == nil {
				a.Say("Nothing was changed.")
			}
			return err
		}
		o.yes = true
	}
	if err := s.Direct(ctx); err != nil {
		return err
	}
	if !a.JSON {
		a.showDirections(s, env)
	}
	if o.dryRun || !o.yes && o.follow == "" {
		if len(s.Plan.Objects) > 0 {
			a.Say("Nothing was changed. Add --yes to carry this out, or write it into a file with --plan FILE.")
		}
		a.printSettled(s, nil, nil)
		return nil
	}
	return a.carrySettled(ctx, w, m, s, o)
}

func (a *App) carrySettled(ctx context.Context, w *workspace.Workspace, m *pipeline.Mover, s *pipeline.Settlement, o settleOptions) error {
	env := s.Plan.Environment
	show := a.Progress()
	out, err := m.Settle(ctx, s, pipeline.DeployOptions{AllowLoss: o.allowLoss, Done: func(step int) {
		if show != nil {
			show("running steps", step, len(s.Deployment.Plan.Steps))
		}
	}})
	a.EndProgress()
	if err != nil {
		return err
	}
	var made *workspace.Committed
	if o.commit {
		made, err = w.Commit(ctx, workspace.CommitOptions{Paths: s.Deployment.Environment.Folders(), Message: o.message, Item: o.item})
		if err == nil && s.Plan.Count(pipeline.Leave) == 0 {
			err = m.Agrees(ctx, s, made.Commit)
		}
		if err != nil {
			return err
		}
	}
	if a.JSON {
		a.printSettled(s, out, made)
		return nil
	}
	if s.Deployment.Saved != "" {
		a.Say("Saved before: %s", s.Deployment.Saved)
	}
	a.sayRescued(out.Rescued)
	left := s.Plan.Count(pipeline.Leave)
	switch {
	case len(s.Plan.Objects) == 0:
	case left == 0:
		a.Say("Done: %s and the workspace agree.", env)
	default:
		a.Say("Done: %s and the workspace still differ in %s.", env, screen.Count(left, "object"))
	}
	if made != nil {
		a.showCommitted(w, made)
	} else if len(out.Written) > 0 {
		a.Say("To record it: oaken commit %s -m TEXT, then oaken deploy %s.", strings.Join(s.Deployment.Environment.Folders(), " "), env)
	}
	return nil
}

// writeSettlePlan writes the directions into a file that is not there yet.
func (a *App) writeSettlePlan(s *pipeline.Settlement, env, file string) error {
	text, err := s.Plan.Text()
	if err != nil {
		return err
	}
	if _, err := os.Lstat(a.at(file)); !errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Refused,
			"Name another file, or remove that one; oaken settle "+fault.Word(env)+" --follow "+file+" carries it out.",
			"There is a file %s already.", file)
	}
	if err := writeWhole(a.at(file), text); err != nil {
		return fault.New(fault.Refused, "Check the folder and the rights.", "%s can't be written: %w.", file, err)
	}
	a.Say("The directions of %s are in %s. Carry them out with oaken settle %s --follow %s.", screen.Count(len(s.Plan.Objects), "object"),
		file, env, file)
	a.printSettled(s, nil, nil)
	return nil
}

func (a *App) follow(s *pipeline.Settlement, file string) error {
	data, err := os.ReadFile(a.at(file))
	if err != nil {
		return fault.New(fault.Usage, "Check the path, or write a plan with --plan.", "There is no plan %s that can be read.", file)
	}
	p, err := pipeline.ParseSettlePlan(data)
	if err != nil {
		return err
	}
	return s.Follow(p)
}

func (a *App) showDirections(s *pipeline.Settlement, env string) {
	if len(s.Plan.Objects) == 0 {
		a.Say("%s and the workspace agree.", env)
		return
	}
	since := "nothing was deployed there yet"
	if s.Deployed != nil {
		since = "deployed last: " + workspace.Label(*s.Deployed)
	}
	a.Say("%s and the workspace differ in %s (%s)", a.Paint(screen.Strong, env), screen.Count(len(s.Plan.Objects), "object"), since)
	list := [][]screen.Cell{{screen.Faint.Cell("object"), screen.Faint.Cell("chest"), screen.Faint.Cell(env), screen.Faint.Cell("")}}
	for _, o := range s.Plan.Objects {
		text, t := directionText(o.Direction, env)
		list = append(list, []screen.Cell{screen.Plain.Cell(o.Address), screen.Plain.Cell(o.Chest), screen.Plain.Cell(o.Environment),
			t.Cell(text)})
	}
	a.Table(a.Out, "  ", list)
	if len(s.Deployment.Plan.Steps) > 0 {
		a.Say("In %s:", env)
		a.showSteps(s.Deployment.Plan.Steps, "  ")
	}
}

// printSettled prints the settlement for scripts.
func (a *App) printSettled(s *pipeline.Settlement, done *pipeline.Outcome, made *workspace.Committed) {
	if !a.JSON {
		return
	}
	out := result.SettledOf(s, done)
	if made != nil && len(made.Changes) > 0 {
		out.Commit = result.OptionalCommit(&made.Commit)
	}
	a.print(out)
}
