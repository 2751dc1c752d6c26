package cli

import (
	"github.com/spf13/cobra"

	"oakenchest/core/fault"
)

// Version is set when the program is built for a release.
var Version = "0.1"

const (
	groupStart        = "start"
	groupDaily        = "daily"
	groupBranches     = "branches"
	groupArtifacts    = "artifacts"
	groupEnvironments = "environments"
	groupPipeline     = "pipeline"
	groupAutomation   = "automation"
	groupTeam         = "team"
	groupCare         = "care"
)

// Commands gives the whole tree of commands, for those who write about it.
func Commands() *cobra.Command { return newRoot(&App{}) }

// newRoot builds the whole tree of commands, in the order of help.
func newRoot(a *App) *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "oaken",
		Short: "Keep platform artifacts under version control and bring them across environments",
		Long: `Oaken Chest keeps what platforms are made of (scenes and their assets, database
schemas, app packages, data models, reports) under version control, shows what
changed in each one's own terms, and brings it from one environment to the next.`,
		Example: "  oaken demo                        see it all in ten seconds\n" +
			"  oaken begin                       put this folder under control\n" +
			"  oaken commit -m \"First state\"     record everything in it",
		Version:           Version,
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return unknownCommand(cmd, args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("oaken {{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVar(&a.in, "in", "", "work in `FOLDER` rather than the current one")
	flags.StringVar(&a.as, "as", "", "act as the person `NAME`")
	flags.BoolVar(&a.JSON, "json", false, "print one JSON object")
	flags.BoolVar(&a.yes, "yes", false, "answer questions with yes")
	flags.StringVar(&a.trust, "trust", "", "agree to what oaken trust shows under `DIGEST`")
	flags.BoolVar(&a.Quiet, "quiet", false, "print nothing but errors, and what --json asks for")
	root.SetFlagErrorFunc(wrongFlag)
	root.AddGroup(
		&cobra.Group{ID: groupStart, Title: "Start"}, &cobra.Group{ID: groupDaily, Title: "Daily work"}, &cobra.Group{ID: groupBranches,
			Title: "Branches and releases"},
		&cobra.Group{ID: groupArtifacts, Title: "Artifacts"}, &cobra.Group{ID: groupEnvironments, Title: "Environments"},
		&cobra.Group{ID: groupPipeline, Title: "Pipeline"}, &cobra.Group{ID: groupAutomation, Title: "Automation"},
		&cobra.Group{ID: groupTeam, Title: "Team"}, &cobra.Group{ID: groupCare, Title: "Care"},
	)
	root.AddCommand(
		newBegin(a), newOpen(a), newPerson(a), newPreset(a), newGuide(a), newDemo(a),
		newChanges(a), newCompare(a), newCommit(a), newSync(a), newHistory(a), newShow(a), newAuthors(a), newFind(a), newDiscard(a),
		newRestore(a), newRevert(a), newPark(a), newUnpark(a), newLock(a), newUnlock(a), newLocks(a),
		newBranch(a), newGo(a), newMerge(a), newConflicts(a), newResolve(a), newOverlaps(a), newReview(a), newRelease(a),
		newInspect(a), newSplit(a), newJoin(a), newKinds(a), newRecipe(a),
		newEnv(a), newCapture(a), newDeploy(a), newSettle(a), newDrift(a), newVerify(a), newRows(a),
		newPipeline(a), newPromote(a), newApprove(a), newOwed(a), newBackfill(a), newBook(a), newDeployments(a), newRollback(a),
		newWithdraw(a), newLookalikes(a),

		newWatch(a),
		newServe(a), newLogin(a), newLogout(a), newWho(a), newPeople(a),
		newTrust(a), newHealth(a), newRelocate(a), newTidy(a), newUsage(a),
	)
	root.SetHelpCommand(newHelp(a))
	root.SetHelpCommandGroupID(groupStart)
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) { a.help(cmd) })
	wrap(a, root)
	for _, cmd := range root.Commands() {
		if tolerant[cmd.Name()] {
			a.tolerate(cmd)
		}
	}
	return root
}

// tolerant are the commands that work with an oaken.toml that can't be read: those that look
// at files, and those that bring it back.
var tolerant = map[string]bool{"changes": true, "compare": true, "history": true, "show": true, "inspect": true, "discard": true,
	"restore": true}

// tolerate lets a command work by the rules of the commit that the workspace stands on, where
// its own can't be read.
func (a *App) tolerate(cmd *cobra.Command) {
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		a.lenient = true
		return run(cmd, args)
	}
}

// wrap gives the argument rules of every command our form of error, and notes
// when a call was understood.
func wrap(a *App, cmd *cobra.Command) {
	if run := cmd.RunE; run != nil {
		cmd.RunE = func(c *cobra.Command, args []string) error {
			a.running = true
			return run(c, args)
		}
	}
	if rule := cmd.Args; rule != nil && cmd.HasParent() {
		cmd.Args = func(c *cobra.Command, args []string) error {
			err := rule(c, args)
			if err == nil || fault.CodeOf(err) == fault.Usage {
				return err
			}
			return wrongArguments(c, args)
		}
	}
	for _, c := range cmd.Commands() {
		wrap(a, c)
	}
}
