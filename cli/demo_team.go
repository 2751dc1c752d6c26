package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"oakenchest/cli/screen"
	"oakenchest/core/service/result"
	"oakenchest/sample"
)

// The story of a team is played with a server, a process of its own, whose data lie beside the workspaces, as does what
// each person's machine keeps of them.
const (
	teamFolder = "brindle-bay-team"
	teamBeside = "-server"
)

// team is the server of a story.
type team struct {
	data, people string
	process      *exec.Cmd
	url          string
	invitation   string
	heard        bytes.Buffer // what the last command said
}

// withServer sets the stage for `oaken demo --team`.
func (s *stage) withServer() {
	s.team = &team{data: s.folder + teamBeside, people: s.folder + teamBeside + "-people"}
	s.name, s.scenes = teamFolder, teamStory
	s.tries = nil
}

// teamSecret is what everybody of the story has for a secret; nobody should.
const teamSecret = "kelp lamp sand tide"

var teamStory = []scene{
	{"A server, and its first administrator", []act{
		{server: "start"},
		{call: `login {URL} --invitation {INVITATION}`, typed: "Imke\n" + teamSecret},
		{call: `begin --chest {URL}/brindle-bay`},
		{call: `commit -m "First state of the reef project"`},
	}},
	{"A newcomer comes in by invitation, and has the project in a minute", []act{
		{call: `people invite Tarek`},
		{by: "Tarek", call: `login {URL} --invitation {INVITATION}`, typed: teamSecret},
		{by: "Tarek", call: `open {URL}/brindle-bay .`},
		{by: "Tarek", call: `who`},
	}},
	{"Two people work in one scene, each on an object of it", []act{
		{call: `lock exhibit/reef.glb::node:Lamp -m "a larger light"`},
		{by: "Tarek", call: `lock exhibit/reef.glb`, status: 4},
		{by: "Tarek", call: `lock exhibit/reef.glb::node:Rock`},
		{tell: "Imke makes the lamp larger, Tarek lifts the rock: both save the one file.",
			edit: reef(sample.Lamp{Scale: 1.4, Brightness: 40}), call: `commit -m "The lamp a little larger"`},
		{by: "Tarek", edit: reef(sample.Lamp{Scale: 1, Brightness: 40, RockHeight: 0.5}), call: `commit -m "The rock a little higher"`},
	}},
	{"The server is killed, and the work goes on", []act{
		{server: "kill"},
		{by: "Tarek", edit: writing(sample.Notes, "Openings\n\nThe reef opens at nine.\n"), call: `commit -m "The reef opens at nine"`},
		{by: "Tarek", call: `lock exhibit/reef.glb`, status: 5},
		{server: "again"},
		{by: "Tarek", call: `sync`},
		{call: `sync`},
		{call: `history`},
	}},
	{"Somebody leaves, and it is known what is left", []act{
		{by: "Tarek", call: `lock exhibit/reef.glb -m "new corals"`},
		{by: "Tarek", edit: reef(sample.Lamp{Scale: 1.4, Brightness: 40, RockHeight: 0.8}), call: `park corals`},
		{call: `people list`},
		{call: `people end Tarek --to Imke`},
		{by: "Tarek", call: `sync`, status: 4},
		{call: `park`},
		{call: `health`},
		{call: `serve backup ../{FOLDER}-server-backup --data ../{FOLDER}-server`},
		{server: "stop"},
	}},
}

// fill puts what is known of the server into a call.
func (t *team) fill(call string) string {
	if t == nil {
		return call
	}
	if found := invitationText.FindString(t.heard.String()); found != "" { // the last command said it
		t.invitation = found
	}
	return strings.NewReplacer("{URL}", t.url, "{INVITATION}", t.invitation, "{FOLDER}",
		strings.TrimSuffix(filepath.Base(t.data), teamBeside)).Replace(call)
}

var invitationText = regexp.MustCompile(`oaken-invitation-[A-Za-z0-9_-]+`)

// sit lets a person of the story sit at a machine of their own.
func (t *team) sit(a *App, person, typed string) {
	t.heard.Reset()
	a.Out = io.MultiWriter(a.Out, &t.heard)
	a.Home = filepath.Join(t.people, strings.ToLower(person))
	a.Input, a.input, a.Unseen, a.Keys = strings.NewReader(typed+"\n"), nil, nil, nil
}

// serve starts the server, kills it or stops it.
func (s *stage) serve(how string) error {
	t := s.team
	switch how {
	case "kill":
		s.app.Say("\n%s", s.app.Paint(screen.Bad, "The server's process is killed."))
		_ = t.process.Process.Kill()
		_ = t.process.Wait() // it was killed
		return nil
	case "stop":
		return t.end()
	}
	listen := "127.0.0.1:0"
	if t.url != "" {
		listen = strings.TrimPrefix(t.url, "http://")
		s.app.Say("\n%s", s.app.Paint(screen.Good, "It is started again."))
	}
	own, err := os.Executable()
	if err != nil {
		return err
	}
	t.process = exec.Command(own, "--json", "serve", "--data", t.data, "--listen", listen)
	out, err := t.process.StdoutPipe()
	if err == nil {
		err = t.process.Start()
	}
	if err != nil {
		return fmt.Errorf("the story stopped: %w", err)
	}
	line, err := bufio.NewReader(out).ReadBytes('\n')
	var said result.Serving
	if err == nil {
		err = json.Unmarshal(line, &said)
	}
	if err != nil {
		return fmt.Errorf("the story stopped: the server does not start: %w", err)
	}
	if t.url == "" {
		t.url, t.invitation = said.URL, said.Invitation
		s.app.Say("\n%s", s.app.Paint(screen.Good, "server$ oaken serve --data "+filepath.Base(t.data)+" --listen "+listen))
		s.app.sayServing(said.URL, filepath.Base(t.data), said.Invitation)
	}
	return nil
}

// end stops the server.
func (t *team) end() error {
	if t.process == nil || t.process.ProcessState != nil {
		return nil
	}
	_ = t.process.Process.Signal(os.Interrupt)
	return t.process.Wait()
}

// farewellTeam says how to go on with the server.
func (s *stage) farewellTeam() {
	rel := func(p string) string {
		if r, err := filepath.Rel(s.app.Dir, p); err == nil && filepath.IsLocal(r) {
			return r
		}
		return p
	}
	s.app.Say("\n%s", s.app.Paint(screen.Strong, "The folders stay for you to explore. Try, in two terminals:"))
	s.app.Say("  oaken serve --data %s --listen %s", rel(s.team.data), strings.TrimPrefix(s.team.url, "http://"))
	s.app.Say("  export OAKEN_HOME=%s; cd %s; oaken history; oaken people list", filepath.Join(s.team.people, "imke"), rel(s.folder))
}
