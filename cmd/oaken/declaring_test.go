package main

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestAPipelineIsDeclaredByCommands builds one up without an editor, on top of a file that somebody laid out.
func TestAPipelineIsDeclaredByCommands(t *testing.T) {
	p := empty(t)
	p.write("oaken.toml", "# Ours.\nproject = \"Brindle Bay\" # the aquarium\n\n[team.roles]\ntesters = [\"Sefa\"] # for now\n")
	p.ok("--as", "Imke", "begin")
	p.ok("env", "add", "dev", "sqlite:../dev.db", "--tier", "development", "--lane", "Reef")
	p.ok("pipeline", "add", "lane", "Reef", "--branch", "reef", "--developer", "Imke")
	p.ok("pipeline", "add", "gate", "tested", "--approvals", "1", "--by", "testers")
	p.ok("env", "add", "test", "sqlite:../test.db", "--tier", "test", "--branch", "test", "--after", "dev")
	p.ok("env", "add", "live", "sqlite:../live.db", "--tier", "live", "--branch", "live", "--after", "test", "--gate", "tested")
	p.ok("env", "add", "scratch", "sqlite:../scratch.db")
	p.says(p.read("oaken.toml"), "# Ours.", "# the aquarium", "# for now", "by = [\"testers\"]", "gates = [\"tested\"]")
	p.says(p.ok("pipeline", "show"), "→ test", "→ live", "Outside of the pipeline", "scratch")
	out := p.object("pipeline", "add", "move", "dev", "live", "-m", "hot fix")
	if out["declared"] != "The move dev → live" {
		t.Errorf("declared: %v", out)
	}
	for _, c := range [][]string{{"pipeline", "add", "lane", "Reef"}, {"pipeline", "add", "gate", "tested", "--rest", "1d"},
		{"pipeline", "add", "gate", "freeze", "--rest", "1d"}, {"pipeline", "add", "move", "dev", "test"}} {
		p.fails(4, "already", c...)
	}
	p.fails(2, "There is no environment nowhere", "env", "add", "x", "sqlite:../x.db", "--after", "nowhere")
	p.fails(2, "A gate is one of a move", "env", "add", "x", "sqlite:../x.db", "--gate", "tested")
	p.fails(2, "needs one of command", "pipeline", "add", "gate", "nothing")
	p.fails(2, "There is no environment moon", "pipeline", "add", "move", "dev", "moon")
}

func TestAMoveMayBeginInSeveralPlaces(t *testing.T) {
	p := lane(t, noGates)
	text := p.read("oaken.toml")
	p.write("oaken.toml", strings.Replace(text, "from = \"dev\"\nto = \"test\"", "from = [\"dev\", \"side\"]\nto = \"test\"", 1)+
		"\n[[environment]]\nname = \"side\"\ntarget = \"sqlite:../side.db\"\ninto = \"database\"\ntier = \"development\"\nlane = \"Reef\"\n")
	p.ok("commit", "-m", "Two places")
	p.declared()
	p.says(p.ok("pipeline", "show"), "dev ", "side ", "→ test")
	p.ok("env", "rename", "side", "aside")
	p.says(p.read("oaken.toml"), `from = ["dev", "aside"]`)
}

func TestWhatIsWrongWithPlacesIsFound(t *testing.T) {
	p := lane(t, noGates)
	live := filepath.Join(filepath.Dir(p.dir), "live.db")
	text := p.read("oaken.toml")
	p.write("oaken.toml", text+"\n[[environment]]\nname = \"again\"\ntarget = \"sqlite:"+live+"\"\ninto = \"database\"\n"+
		"\n[[environment]]\nname = \"one\"\ntarget = \"postgres://a@localhost/bay\"\ninto = \"pg\"\n"+
		"\n[[environment]]\nname = \"two\"\ntarget = \"postgres://b@127.0.0.1:5432/bay\"\ninto = \"pg\"\n")
	r := p.run("pipeline", "check")
	if r.status != 1 {
		t.Errorf("check: %d", r.status)
	}
	p.says(r.out, "It is the same place as live", "It is the same place as one", "compared as mere text", "kind = \"postgres-schema\"")
}

func TestTheCalendarOfBookings(t *testing.T) {
	p := lane(t, "\n[pipeline]\nmay-end-bookings = [\"stewards\"]\n[team.roles]\nstewards = [\"Odalys\"]\n"+
		"[[pipeline.lane]]\nname = \"Kelp\"\n[[environment]]\nname = \"kelp\"\ntarget = \"sqlite:../kelp.db\"\ninto = \"database\"\n"+
		"tier = \"development\"\nlane = \"Kelp\"\n"+noGates)
	p.ok("book", "live", "--lane", "Reef", "--for", "2d")
	p.says(p.ok("book"), "live", "Reef", "·", "until", "by Imke")
	p.fails(4, "No move brings work of the lane Kelp to live", "book", "live", "--lane", "Kelp", "--for", "1d")
	p.fails(2, "Name the environment", "book", "--lane", "Reef", "--for", "1d")
	if list := p.object("book")["bookings"].([]any); len(list) != 1 || list[0].(map[string]any)["environment"] != "live" {
		t.Errorf("bookings: %v", list)
	}
	p.fails(4, "The booking is one of the lane Reef", "--as", "Tarek", "book", "live", "--end")
	p.ok("--as", "Odalys", "book", "live", "--end")
	p.says(p.ok("book", "live"), "live is not booked")
}
