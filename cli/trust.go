package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/service/result"
	"oakenchest/core/trust"
	"oakenchest/core/workspace"
)

// trustVariable gives the digest of what is agreed to where nobody can be asked.
const trustVariable = "OAKEN_TRUST"

func newTrust(a *App) *cobra.Command {
	var check, forget, server bool
	cmd := &cobra.Command{
		Use:   "trust",
		Short: "Show what the project wants to run and to reach, and agree to it",
		Long: `Show which commands the project wants to run on this machine (checks, gates, viewers),
and which places outside of its folder it wants to reach (databases, folders, scratch
servers), and agree to them. Without that, none is run and nothing is reached. What
changes later is asked about again; on a terminal each command asks by itself.

Whoever can change a file of the project that such a command runs can change what it does.

Where nobody can be asked, give the digest that this command shows, with --trust DIGEST or
in the variable ` + trustVariable + `: it stands for this list alone.

Environments that run at the server are reached from there, and their commands run there:
--server shows what the project wants of the server, and an administrator agrees to it.`,
		Example:           "  oaken trust\n  oaken trust --yes\n  oaken trust --server\n  oaken deploy test --trust 4be1c09d2f6a7e35",
		GroupID:           groupCare,
		Args:              cobra.NoArgs,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if server {
				return a.trustServer(cmd.Context(), check, forget)
			}
			return a.look(cmd.Context(), func(w *workspace.Workspace) error {
				k := a.keeper(w)
				if forget {
					n, err := k.book.Forget(k.project)
					if err != nil {
						return err
					}
					a.showForgotten(n)
					return nil
				}
				return a.giveTrust(cmd.Context(), k, check)
			})
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "end with status 1 when something is not agreed to, and agree to nothing")
	cmd.Flags().BoolVar(&forget, "forget", false, "take back all that was agreed to for this project")
	cmd.Flags().BoolVar(&server, "server", false, "what it wants of the server that keeps it, in place of this machine")
	cmd.MarkFlagsMutuallyExclusive("check", "forget")
	return cmd
}

// showForgotten says how much of what was agreed to was taken back.
func (a *App) showForgotten(n int) {
	if a.JSON {
		a.print(result.Trust{Wishes: []result.Wish{}, Forgotten: &n})
		return
	}
	a.Say("%s taken back.", screen.Count(n, "word"))
}

// giveTrust shows the wishes, and asks.
func (a *App) giveTrust(ctx context.Context, k *keeper, check bool) error {
	all := k.wishes(ctx)
	lacking, err := k.book.Lacking(k.project, all)
	if err != nil {
		return err
	}
	agreed := func(w trust.Wish) bool { return !slices.Contains(lacking, w) }
	if !a.JSON {
		a.showWishes(all, agreed)
	}
	if len(lacking) > 0 && !check && (a.yes || !a.JSON && a.Keys != nil && a.Ask("Agree to this on this machine?")) {
		if err := k.book.Agree(k.project, lacking, a.Now()); err != nil {
			return err
		}
		lacking = nil
	}
	if a.JSON {
		list := []result.Wish{}
		for _, w := range all {
			list = append(list, result.Wish{Sort: string(w.Sort), Name: w.Name, Text: w.Shown(), Agreed: agreed(w)})
		}
		a.print(result.Trust{Wishes: list, Digest: trust.DigestOf(all)})
	}
	switch {
	case len(lacking) > 0 && check:
		return &foundDifference{}
	case len(all) == 0:
		a.Say("The project wants to run nothing, and to reach nothing outside of its folder.")
	case len(lacking) == 0:
		a.Say("All of this is agreed to. In a script: --trust %s.", trust.DigestOf(all))
	default:
		a.Say("Not agreed to: until then it is not run, and not reached.")
		a.Say("  oaken trust --yes agrees on this machine; in a script: --trust %s.", trust.DigestOf(all))
	}
	return nil
}

// showWishes lists what a project wants.
func (a *App) showWishes(list []trust.Wish, agreed func(trust.Wish) bool) {
	var rows [][]screen.Cell
	for _, w := range list {
		mark := screen.Warm.Cell("new")
		if agreed(w) {
			mark = screen.Good.Cell("agreed")
		}
		does := "run"
		if w.Sort == trust.Target || w.Sort == trust.Scratch {
			does = "reach"
		}
		rows = append(rows, []screen.Cell{mark, screen.Plain.Cell(does), screen.Strong.Cell(w.Shown()),
			screen.Faint.Cell(string(w.Sort) + " " + w.Name)})
	}
	a.Table(a.Out, "", rows)
}

// keeper asks the person, once for each wish, and remembers the answer on this machine.
type keeper struct {
	app     *App
	book    trust.Book
	project string
	wishes  func(context.Context) []trust.Wish
	now     map[trust.Wish]bool // agreed to for this call alone
}

// keeper gives what stands between a project's wishes and this machine. All that a project wants is what
// the workspace's rules say, and those of the first branch, which count for environments.
func (a *App) keeper(w *workspace.Workspace) *keeper {
	wishes := func(ctx context.Context) []trust.Wish {
		served := w.Chest.Served()
		all := trust.Of(w.Manifest, served)
		if first, err := w.FirstManifest(ctx); err == nil && !w.Offline {
			for _, wish := range trust.Of(first, served) {
				if !slices.Contains(all, wish) {
					all = append(all, wish)
				}
			}
		}
		return all
	}
	return &keeper{app: a, book: trust.Book{File: a.trustedFile()}, project: w.Chest.Place(), wishes: wishes, now: map[trust.Wish]bool{}}
}

// keeperOf is keeper for a folder with rules that need not be a workspace.
func (a *App) keeperOf(folder string, m *manifest.Manifest) *keeper {
	wishes := func(context.Context) []trust.Wish { return trust.Of(m, false) }
	return &keeper{app: a, book: trust.Book{File: a.trustedFile()}, project: folder, wishes: wishes, now: map[trust.Wish]bool{}}
}

// trustedFile is where the words that were given lie; where the system has no place for such, none are
// kept.
func (a *App) trustedFile() string {
	if s := a.settingsFile(); s != "" {
		return filepath.Join(filepath.Dir(s), "trusted.json")
	}
	return ""
}

// Allow gives nil when each wish was agreed to, or is now.
func (k *keeper) Allow(ctx context.Context, wishes ...trust.Wish) error {
	wishes = slices.DeleteFunc(slices.Clone(wishes), func(w trust.Wish) bool { return k.now[w] })
	lacking, err := k.book.Lacking(k.project, wishes)
	if err != nil || len(lacking) == 0 {
		return err
	}
	given := k.app.trust
	if given == "" {
		given = os.Getenv(trustVariable)
	}
	all := k.wishes(ctx)
	if given != "" {
		if given != trust.DigestOf(all) {
			return fault.New(fault.Refused, "Look at it with oaken trust, and give the digest that it shows.",
				"The digest %s is not that of what the project wants now.", given)
		}
		if !slices.ContainsFunc(lacking, func(w trust.Wish) bool { return !slices.Contains(all, w) }) {
			return nil
		}
	}
	if k.app.Keys == nil || k.app.JSON {
		return trust.Refused(lacking)
	}
	k.app.EndProgress()
	k.app.Note("The project wants, and nobody on this machine has agreed to it yet:")
	for _, w := range lacking {
		k.app.Note("  %s %s: %s", w.Sort, w.Name, w.Shown())
	}
	if !k.app.Ask("Agree to this?") {
		return trust.Refused(lacking)
	}
	for _, w := range lacking {
		k.now[w] = true
	}
	if k.book.File == "" {
		return nil
	}
	return k.book.Agree(k.project, lacking, k.app.Now())
}

// reaching gives the wishes to reach an environment.
func reaching(e manifest.Environment) (out []trust.Wish) {
	for _, s := range e.Sites() {
		out = append(out, trust.Reach(e.Name, s)...)
	}
	return out
}

// agreed reports whether somebody agreed to all that it takes to reach an environment.
func (a *App) agreed(w *workspace.Workspace, e manifest.Environment) bool {
	k := a.keeper(w)
	lacking, err := k.book.Lacking(k.project, reaching(e))
	return err == nil && len(lacking) == 0
}

// agreeTo notes that the person wants to reach an environment, having written so in this very call.
func (a *App) agreeTo(w *workspace.Workspace, e manifest.Environment) error {
	if w.Chest.Served() && e.RunsAtServer() { // that is an administrator's to say
		return nil
	}
	k := a.keeper(w)
	if wishes := reaching(e); len(wishes) > 0 && k.book.File != "" {
		return k.book.Agree(k.project, wishes, a.Now())
	}
	return nil
}
