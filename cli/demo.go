package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"oakenchest/cli/screen"
	"oakenchest/core/fault"
	"oakenchest/core/service/result"
	"oakenchest/core/workspace"
	"oakenchest/sample"
)

const demoFolder = "brindle-bay"

// storyTries are what to try after the story.
var storyTries = []string{"oaken history", "oaken show main:2", "oaken inspect apps/rounds.app", "oaken split apps/rounds.app /tmp/rounds",
	"oaken compare release:spring main", "oaken help"}

func newDemo(a *App) *cobra.Command {
	var month, bare, many bool
	var on string
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Play the whole story on sample data",
		Long: `Lay out the sample world (an aquarium's reef scene, app package and database) in a
new folder and play a story in it with the real commands: each is printed as you
would type it, with its real output. The folder stays, to explore.

--bare lays the sample world out and does nothing in it: a place to try things in.

--pipeline plays a month of two lanes that share a pipeline: promotions, a collision
caught in integration, a booking, a gate that is shut, a hot fix and its backfill, a
lookalike, a rollback. --on plays it with databases on a PostgreSQL server.

--team plays with a server: an administrator, a newcomer by invitation, two people in one scene,
work that goes on while the server is killed, somebody who leaves.`,
		Example:           "  oaken demo\n  oaken demo /tmp/brindle-bay\n  oaken demo --bare reef\n  oaken demo --pipeline\n  oaken demo --team",
		GroupID:           groupStart,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: completeFolders,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := demoFolder
			if month {
				name = monthFolder
			}
			if many {
				name = teamFolder
			}
			if len(args) == 1 {
				name = args[0]
			}
			folder := a.at(name)
			if on != "" && !month {
				return usage(cmd, "--on goes with --pipeline.")
			}
			if entries, err := os.ReadDir(folder); err == nil && len(entries) > 0 {
				return fault.New(fault.Refused, "Name a new folder: oaken demo FOLDER.",
					"%s is not empty, so the demo was not played there.", name)
			}
			for _, beside := range []string{"-tarek", monthBeside, teamBeside, teamBeside + "-people", teamBeside + "-backup"} {
				if entries, err := os.ReadDir(folder + beside); err == nil && len(entries) > 0 {
					return fault.New(fault.Refused, "Name a new folder: oaken demo FOLDER.",
						"%s%s is not empty, so the demo was not played there.", name, beside)
				}
			}
			if above := workspace.Above(folder); above != "" {
				return fault.New(fault.Refused, "Name a folder outside of it: oaken demo FOLDER.",
					"%s lies in the project in %s, so the demo was not played there.", name, above)
			}
			if err := os.MkdirAll(folder, 0o777); err != nil {
				return fault.New(fault.Refused, "Name another folder.", "%s can't be made: %w.", name, err)
			}
			if bare {
				return a.layBare(cmd.Context(), folder, name)
			}
			s := &stage{app: a, folder: folder, owner: "Imke", name: demoFolder, scenes: story, lay: sample.Write, tries: storyTries}
			if month {
				s.month(on)
			}
			if many {
				s.withServer()
			}
			err := s.play(cmd.Context())
			if s.team != nil {
				err = errors.Join(err, s.team.end())
			}
			if err != nil {
				return err
			}
			if a.JSON {
				a.print(result.Demo{Folder: folder, Commands: s.commands})
				return nil
			}
			s.farewell()
			return nil
		},
	}
	cmd.Flags().BoolVar(&bare, "bare", false, "lay the sample world out alone")
	cmd.Flags().BoolVar(&month, "pipeline", false, "play a month in a whole pipeline")
	cmd.Flags().StringVar(&on, "on", "", "keep the databases of the pipeline on a PostgreSQL server, `URL`")
	cmd.Flags().BoolVar(&many, "team", false, "play with a server and the people of a team")
	cmd.MarkFlagsMutuallyExclusive("bare", "pipeline", "team")
	_ = cmd.RegisterFlagCompletionFunc("on", cobra.NoFileCompletions)
	return cmd
}

// layBare lays the sample world out.
func (a *App) layBare(ctx context.Context, folder, name string) error {
	if err := sample.Write(ctx, folder); err != nil {
		return fault.New(fault.Unreachable, "Check the rights, and that the disk has room.", "The sample world can't be laid out: %w.", err)
	}
	if a.JSON {
		a.print(result.Demo{Folder: folder})
		return nil
	}
	a.Say("The sample world is in %s, under no control yet.", name)
	a.Say("  Go there, and begin: oaken begin")
	return nil
}

// stage is where the story is played.
type stage struct {
	app      *App
	folder   string
	commands int

	owner, name string // who begins, and what the folder is called in the calls
	scenes      []scene
	lay         func(ctx context.Context, folder string) error
	tries       []string
	clock       time.Time // when it is in the story; zero for the real time
	places      sample.Places
	team        *team // with a server; nil for none
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
	// by is who acts, in a workspace of their own; the owner unless it is said.
	by string
	// at is the day and time from which on the story goes on, in the local zone.
	at string
	// sql is run on the database of an environment, as a developer's tool would.
	on, sql string
	// typed is what the person types besides: a line each.
	typed string
	// server starts the server, kills it or stops it.
	server string
}

// of gives the folder of somebody else's workspace, beside Imke's.
func (s *stage) of(person string) string { return s.folder + "-" + strings.ToLower(person) }

func (s *stage) play(ctx context.Context) error {
	if err := s.lay(ctx, s.folder); err != nil {
		return fmt.Errorf("the sample world can't be laid out: %w", err)
	}
	s.app.Say("The sample world is in %s.", s.folder)
	for i, sc := range s.scenes {
		s.app.Say("\n%s", s.app.Paint(screen.Strong, fmt.Sprintf("%d. %s", i+1, sc.title)))
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
		s.app.Say("\n%s", act.tell)
	}
	folder, person, machine := s.folder, s.owner, "desk"
	if act.at != "" {
		t, err := time.ParseInLocation("2006-01-02 15:04", act.at, time.Local)
		if err != nil {
			return err
		}
		s.clock = t
		s.app.Say("\n%s", s.app.Paint(screen.Faint, t.Format("Monday, 2 January, 15:04")))
	}
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
	if act.sql != "" {
		if err := sample.RunOn(ctx, s.folder, s.places.Database(act.on), act.sql); err != nil {
			return fmt.Errorf("the story stopped: %w", err)
		}
	}
	if act.server != "" {
		return s.serve(act.server)
	}
	if act.call == "" {
		return nil
	}
	call := s.team.fill(act.call)
	call = strings.ReplaceAll(call, "../"+s.name, "../"+filepath.Base(s.folder))
	s.app.Say("\n%s", s.app.Paint(screen.Good, strings.ToLower(person)+"$ oaken "+call))
	quiet := *s.app
	quiet.in, quiet.as, quiet.Dir, quiet.Person, quiet.Machine = "", "", folder, person, machine
	quiet.Live, quiet.JSON, quiet.Edit = false, false, nil
	if !s.clock.IsZero() {
		begun, clock := time.Now(), s.clock
		quiet.Now = func() time.Time { return clock.Add(time.Since(begun)) }
		s.clock = s.clock.Add(5 * time.Minute)
	}
	if s.app.JSON || s.app.Quiet {
		quiet.Out = new(strings.Builder)
	}
	if s.team != nil {
		s.team.sit(&quiet, person, act.typed)
	}
	quiet.Err = quiet.Out
	status := Run(ctx, &quiet, words(call))
	s.commands++
	if status != act.status {
		return fmt.Errorf("the story stopped: oaken %s ended with status %d, %d was expected", act.call, status, act.status)
	}
	if status != 0 {
		s.app.Say("%s", s.app.Paint(screen.Faint, fmt.Sprintf("(exit status %d)", status)))
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
	if s.team != nil {
		s.farewellTeam()
		return
	}
	name := s.folder
	if rel, err := filepath.Rel(s.app.Dir, s.folder); err == nil && filepath.IsLocal(rel) {
		name = rel
	}
	s.app.Say("\n%s", s.app.Paint(screen.Strong, "The folder stays for you to explore. Try:"))
	for _, line := range append([]string{"cd " + name}, s.tries...) {
		s.app.Say("  %s", line)
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
