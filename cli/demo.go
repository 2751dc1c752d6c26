package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"oakenchest/core/fault"
	"oakenchest/sample"
)

const demoFolder = "brindle-bay"

func newDemo(a *App) *cobra.Command {
	return &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Play the whole story on sample data",
		Long: `Lay out the sample world (an aquarium's reef scene, app package and database) in a
new folder and play a story in it with the real commands: each is printed as you
would type it, with its real output. The folder stays, to explore.`,
		Example:           "  oaken demo\n  oaken demo /tmp/brindle-bay",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := demoFolder
			if len(args) == 1 {
				name = args[0]
			}
			folder := a.at(name)
			if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
				return fault.New(fault.Refused, "Name a new folder: oaken demo FOLDER.", "%s is not empty, so the demo was not played there.", name)
			}
			if entries, err := os.ReadDir(folder + "-tarek"); err == nil && len(entries) > 0 {
				return fault.New(fault.Refused, "Name a new folder: oaken demo FOLDER.", "%s-tarek is not empty, so the demo was not played there.", name)
			}
			if err := os.MkdirAll(folder, 0o777); err != nil {
				return fault.New(fault.Refused, "Name another folder.", "%s can't be made: %w.", name, err)
			}
			s := &stage{app: a, folder: folder}
			if err := s.play(cmd.Context()); err != nil {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"schema": "oaken.demo/1", "folder": folder, "commands": s.commands})
				return nil
			}
			s.farewell()
			return nil
		},
	}
}

// stage is where the story is played.
type stage struct {
	app      *App
	folder   string
	commands int
}

// A scene of the story: what people do, then the commands that they type.
type scene struct {
	title string
	acts  []act
}

// act is a command with the status that it must end with, or an edit outside of oaken.
type act struct {
	call   string
	status int
	tell   string
	edit   func(ctx context.Context, folder string) error
	// by is who acts, in a workspace of their own; Imke unless it is said.
	by string
}

// of gives the folder of somebody else's workspace, beside Imke's.
func (s *stage) of(person string) string { return s.folder + "-" + strings.ToLower(person) }

func (s *stage) play(ctx context.Context) error {
	if err := sample.Write(ctx, s.folder); err != nil {
		return fmt.Errorf("the sample world can't be laid out: %w", err)
	}
	s.app.say("The sample world is in %s.", s.folder)
	for i, sc := range story {
		s.app.say("\n%s", s.app.paint(strong, fmt.Sprintf("%d. %s", i+1, sc.title)))
		for _, act := range sc.acts {
			if err := s.perform(ctx, act); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *stage) perform(ctx context.Context, act act) error {
	if act.tell != "" {
		s.app.say("\n%s", act.tell)
	}
	folder, person, machine := s.folder, "Imke", "desk"
	if act.by != "" {
		folder, person, machine = s.of(act.by), act.by, "laptop"
		if err := os.MkdirAll(folder, 0o777); err != nil {
			return fmt.Errorf("the story stopped: %w", err)
		}
	}
	if act.edit != nil {
		if err := act.edit(ctx, folder); err != nil {
			return fmt.Errorf("the story stopped: %w", err)
		}
	}
	if act.call == "" {
		return nil
	}
	call := strings.ReplaceAll(act.call, "../"+demoFolder, "../"+filepath.Base(s.folder))
	s.app.say("\n%s", s.app.paint(good, strings.ToLower(person)+"$ oaken "+call))
	quiet := *s.app
	quiet.in, quiet.as, quiet.Dir, quiet.Person, quiet.Machine = "", "", folder, person, machine
	quiet.Live, quiet.json, quiet.Edit = false, false, nil
	if s.app.json || s.app.quiet {
		quiet.Out = new(strings.Builder)
	}
	quiet.Err = quiet.Out
	status := Run(ctx, &quiet, words(call))
	s.commands++
	if status != act.status {
		return fmt.Errorf("the story stopped: oaken %s ended with status %d, %d was expected", act.call, status, act.status)
	}
	if status != 0 {
		s.app.say("%s", s.app.paint(faint, fmt.Sprintf("(exit status %d)", status)))
	}
	return nil
}

// words cuts a command line as a shell would: double quotes keep words together.
func words(line string) []string {
	var out []string
	var cur strings.Builder
	inside, any := false, false
	for _, r := range line {
		switch {
		case r == '"':
			inside, any = !inside, true
		case r == ' ' && !inside:
			if any {
				out = append(out, cur.String())
			}
			cur.Reset()
			any = false
		default:
			cur.WriteRune(r)
			any = true
		}
	}
	if any {
		out = append(out, cur.String())
	}
	return out
}

func (s *stage) farewell() {
	name := s.folder
	if rel, err := filepath.Rel(s.app.Dir, s.folder); err == nil && filepath.IsLocal(rel) {
		name = rel
	}
	s.app.say("\n%s", s.app.paint(strong, "The folder stays for you to explore. Try:"))
	for _, line := range []string{
		"cd " + name, "oaken history", "oaken show main:2", "oaken inspect apps/rounds.app", "oaken split apps/rounds.app /tmp/rounds", "oaken compare release:spring main", "oaken help",
	} {
		s.app.say("  %s", line)
	}
}

// reef writes the scene anew, as its editor would.
func reef(l sample.Lamp) func(context.Context, string) error {
	return func(_ context.Context, folder string) error {
		data, err := sample.Reef(l)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(folder, filepath.FromSlash(sample.Scene)), data, 0o666)
	}
}

// inDev runs SQL on the development database, as a developer's tool would.
func inDev(sql string) func(context.Context, string) error {
	return func(ctx context.Context, folder string) error {
		return sample.Run(ctx, filepath.Join(folder, sample.Database), sql)
	}
}
