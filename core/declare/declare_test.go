package declare

import (
	"strings"
	"testing"

	"oakenchest/core/manifest"
)

const sample = `# The bay.
project = "Brindle Bay"   # its name

leave-out = [
  "**/*.tmp", # made by the editor
]

[[environment]]   # everybody's own
name = "dev"
target = "sqlite:dev.db"
into = "database"

# What testers look at.
[[environment]]
name = 'test'
target = "sqlite:test.db"
into = "database"

[[environment.also]]
target = "folder:signs"
into = "signs"

[pipeline]
may-override = ["Imke"]

[[pipeline.move]]
from = "dev"
to   = "test"

[[pipeline.move]]
from = "dev"
to   = "dev2"

[[pipeline.freeze]]
environments = ["test", "live"]
from = "2026-12-24"
`

func init() {
	manifest.OnDisk("sqlite", manifest.Disk{})
	manifest.OnDisk("folder", manifest.Disk{Folder: true})
}

// lines gives the lines of one text that another has not.
func lines(a, b string) (out []string) {
	have := map[string]int{}
	for line := range strings.SplitSeq(b, "\n") {
		have[line]++
	}
	for line := range strings.SplitSeq(a, "\n") {
		if have[line]--; have[line] < 0 {
			out = append(out, line)
		}
	}
	return out
}

// changed fails where an edit took a line away that it should not have, and gives the new ones.
func changed(t *testing.T, out []byte, err error, gone ...string) []string {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	if lost := lines(sample, string(out)); strings.Join(lost, "\n") != strings.Join(gone, "\n") {
		t.Errorf("these lines went: %q\n%s", lost, out)
	}
	return lines(string(out), sample)
}

func TestWhatAnEditIsNotAboutStays(t *testing.T) {
	e := manifest.Environment{Name: "live", Site: manifest.Site{Target: "sqlite:live.db", Into: "database"}, Tier: manifest.Live,
		Gates: []string{"tests"}}
	out, err := Environment([]byte(sample), e)
	if got := changed(t, out, err); len(got) != 7 ||
		!strings.Contains(string(out), "into = \"signs\"\n\n[[environment]]\nname = \"live\"\n") {
		t.Errorf("%q\n%s", got, out)
	}
	if out, err = Artifact(out, manifest.Artifact{Path: "database", Kind: "schema"}); err != nil {
		t.Fatal(err)
	}
	m, err := manifest.Parse(out)
	if err != nil || len(m.Environments) != 3 || m.Environments[2].Name != "live" || len(m.Artifacts) != 1 ||
		len(m.Environments[1].Also) != 1 {
		t.Errorf("%+v, %v\n%s", m, err, out)
	}

	out, err = RemoveEnvironment([]byte(sample), "dev")
	changed(t, out, err, "[[environment]]   # everybody's own", `name = "dev"`, `target = "sqlite:dev.db"`, `into = "database"`, "")
	if !strings.Contains(string(out), "# What testers look at.\n[[environment]]\nname = 'test'") {
		t.Errorf("a remark lost its place:\n%s", out)
	}
	if _, err := RemoveEnvironment([]byte(sample), "live"); err == nil {
		t.Error("an environment that is not there was removed")
	}

	out, err = RenameEnvironment([]byte(sample), "test", "try")
	changed(t, out, err, "name = 'test'", `to   = "test"`, `environments = ["test", "live"]`)
	if !strings.Contains(string(out), "name = 'try'") || !strings.Contains(string(out), `environments = ["try", "live"]`) {
		t.Errorf("renamed:\n%s", out)
	}
	if out, err := RenameEnvironment([]byte(sample), "nothing", "try"); err == nil {
		t.Errorf("an environment that is not there was renamed:\n%s", out)
	}
}

func TestPartsOfAPipelineAreDeclared(t *testing.T) {
	for _, start := range []string{"", "project = \"x\"\n", sample} {
		out, err := Lane([]byte(start), manifest.Lane{Name: "Reef", Branch: "reef", Developers: []string{"Imke", "Ta\"rek"}})
		for _, step := range []func([]byte) ([]byte, error){
			func(data []byte) ([]byte, error) { return Lane(data, manifest.Lane{Name: "Kelp"}) },
			func(data []byte) ([]byte, error) { return Move(data, manifest.Move{From: "dev", To: "live"}) },
			func(data []byte) ([]byte, error) {
				return Move(data, manifest.Move{From: "dev", To: "rehearsal", Gates: []string{"g"}})
			},
			func(data []byte) ([]byte, error) {
				return Gate(data, manifest.Gate{Name: "g", Approvals: 2, By: []string{"leads"}})
			},
		} {
			if err == nil {
				out, err = step(out)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		m, err := manifest.Parse(out)
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		p := m.Pipeline
		if len(p.Lanes) != 2 || p.Lanes[0].Developers[1] != "Ta\"rek" || p.Moves[len(p.Moves)-1].To != "rehearsal" || len(p.Gates) != 1 ||
			p.Gates[0].Approvals != 2 {
			t.Errorf("%+v\n%s", p, out)
		}
	}
	if _, err := Lane([]byte("[[pipeline"), manifest.Lane{Name: "x"}); err == nil {
		t.Error("a file that can't be read was changed")
	}
}

func FuzzRename(f *testing.F) {
	f.Add(sample, "test", "try")
	f.Add("[[environment]]\nname=\"a\"\ntarget=\"sqlite:b\"\ninto=\"c\"", "a", "b")
	f.Fuzz(func(t *testing.T, text, from, to string) {
		out, err := RenameEnvironment([]byte(text), from, to)
		if err != nil {
			return
		}
		m, err := manifest.Parse(out)
		if err != nil {
			t.Fatalf("what was written can't be read: %v", err)
		}
		if _, err := m.Environment(to); err != nil {
			t.Fatal(err)
		}
	})
}
