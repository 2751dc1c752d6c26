package cli

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
)

// settings are what is remembered of a person on this machine, beside the workspaces.
type settings struct {
	// Person is the name under which workspaces are made, unless it is said: it was asked for where the
	// account has none, or written by hand.
	Person string `toml:"person"`
}

// settingsFile is where they lie; empty where the system has no place for such.
func (a *App) settingsFile() string {
	if a.Home != "" {
		return filepath.Join(a.Home, "settings.toml")
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "oaken", "settings.toml")
}

// rememberedPerson gives the name that is kept for all workspaces to be made.
func (a *App) rememberedPerson() string {
	data, err := os.ReadFile(a.settingsFile())
	var s settings
	if err != nil || toml.Unmarshal(data, &s) != nil {
		return ""
	}
	return s.Person
}

// askName asks once for the person's name, where neither the call, nor the account, nor what is kept tells
// it. Without an answer it is asked again the next time.
func (a *App) askName() {
	if a.as != "" || a.Person != "" || a.Keys == nil || a.JSON || a.rememberedPerson() != "" || accountName() != "" {
		return
	}
	fmt.Fprint(a.Err, "This account has no name. Your name, as others are to see it: ")
	line, _ := bufio.NewReader(a.Keys).ReadString('\n')
	a.rememberPerson(strings.TrimSpace(line))
}

// sayWho says who works in a new workspace, and how somebody else does.
func (a *App) sayWho(w *workspace.Workspace) {
	if a.as == "" && w.Signed() == "" {
		a.Say("  person     %s; oaken person NAME gives you another name", w.Person)
	}
}

// rememberPerson keeps a name; that it can't be kept harms nothing.
func (a *App) rememberPerson(name string) {
	file := a.settingsFile()
	if name == "" || file == "" || a.rememberedPerson() == name {
		return
	}
	data, err := toml.Marshal(settings{name})
	if err == nil && os.MkdirAll(filepath.Dir(file), 0o777) == nil {
		_ = os.WriteFile(file, data, 0o666)
	}
}

func newPerson(a *App) *cobra.Command {
	var always bool
	cmd := &cobra.Command{
		Use:   "person [NAME]",
		Short: "Show who you are here, or be called NAME from now on",
		Long: `Show the name under which this workspace works, or change it: what is committed and locked
from now on carries the new one, what is recorded already keeps the old. With --always, the
workspaces that you make later on this machine are made under that name too.

--as NAME at one command is for somebody else who sits at this workspace for a moment.`,
		Example:           "  oaken person\n  oaken person Imke --always",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				if always {
					return usage(cmd, "--always needs a name.")
				}
				return a.look(cmd.Context(), func(w *workspace.Workspace) error { return a.showPerson(w) })
			}
			return a.with(cmd.Context(), func(w *workspace.Workspace) error {
				if err := w.BeCalled(cmd.Context(), args[0]); err != nil {
					return err
				}
				if always {
					a.rememberPerson(w.Person)
				}
				return a.showPerson(w)
			})
		},
	}
	cmd.Flags().BoolVar(&always, "always", false, "make later workspaces on this machine under that name too")
	return cmd
}

func (a *App) showPerson(w *workspace.Workspace) error {
	later := a.host().Person
	if a.JSON {
		a.print(result.Person{Person: w.Person, Workspace: w.Name, Owner: w.Owner(), Later: later})
		return nil
	}
	a.Say("You are %s, in %s.", a.Paint(screen.Strong, w.Person), w.Name)
	if w.Person != w.Owner() {
		a.Say("  The workspace is %s's.", w.Owner())
	}
	if later != w.Person {
		a.Say("  Workspaces that you make are made as %s; oaken person %s --always changes that.", later, w.Person)
	}
	return nil
}
