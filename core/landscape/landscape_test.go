package landscape

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// parse reads a manifest in which environments are written short: name tier lane.
func parse(t *testing.T, environments, rest string) *Landscape {
	t.Helper()
	var text strings.Builder
	text.WriteString("project = \"x\"\n")
	for i, line := range strings.Split(strings.TrimSpace(environments), "\n") {
		f := append(strings.Fields(line), "", "", "")
		fmt.Fprintf(&text, "[[environment]]\nname = %q\ntarget = \"sqlite:%d.db\"\ninto = \"database\"\ntier = %q\nlane = %q\n"+
			"controllers = [\"Ravi\"]\n", f[0], i, f[1], f[2])
	}
	text.WriteString(rest)
	m, err := manifest.Parse([]byte(text.String()))
	if err != nil {
		t.Fatalf("%v\n%s", err, text.String())
	}
	return Of(m)
}

// moves writes moves short: "a>b b>c".
func moves(list string) string {
	var b strings.Builder
	for _, f := range strings.Fields(list) {
		from, to, _ := strings.Cut(f, ">")
		fmt.Fprintf(&b, "[[pipeline.move]]\nfrom = %q\nto = %q\n", from, to)
	}
	return b.String()
}

const line = "dev development A\nint integration A\ntest test\nlive live"

func lane(name, branch string, developers ...string) string {
	return fmt.Sprintf("[[pipeline.lane]]\nname = %q\nbranch = %q\ndevelopers = [%s]\n", name, branch, quoted(developers))
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%q", s)
	}
	return strings.Join(out, ", ")
}

func TestWhatIsWrongWithALandscapeIsFound(t *testing.T) {
	good := lane("A", "a", "Imke", "Tarek") + moves("dev>int int>test test>live")
	for _, c := range []struct {
		name, environments, rest string
		want                     []string // parts of findings; none for a landscape without any
	}{
		{"three stages in one line", "dev development\ntest test\nlive live", moves("dev>test test>live"), nil},
		{"a lane", line, good, nil},
		{"nothing leads there", line, lane("A", "a") + moves("dev>int int>test"),
			[]string{"live: No move leads to it", "test: No move leads on", "dev: No path leads", "int: No path leads"}},
		{"a circle", line, good + moves("test>int"), []string{"int, test: Moves lead round in a circle", "test → int: The move goes back"}},
		{"an unknown place", line, good + moves("dev>moon"), []string{"dev → moon: There is no environment moon"}},
		{"a move to itself", line, good + moves("dev>dev"), []string{"leads to where it begins", "dev: Moves lead round"}},
		{"a move twice", line, good + moves("dev>int"), []string{"declared twice"}},
		{"nobody meets", "dev development A\ntest test\nlive live", lane("A", "a", "Imke", "Tarek") + moves("dev>test test>live"),
			[]string{"lane A: 2 develop in it"}},
		{"two places of development", "one development A\ntwo development A\ntest test\nlive live",
			lane("A", "a") + moves("one>test two>test test>live"), []string{"lane A: 2 develop in it"}},
		{"lanes meet at the testers'", "a development A\nb development B\ntest test\nlive live",
			lane("A", "a") + lane("B", "b") + moves("a>test b>test test>live"), []string{"test: Several lanes meet there first: A, B"}},
		{"no way back", line, lane("A", "", "Imke") + moves("dev>int int>test test>live"), []string{"lane A: No way leads back"}},
		{"an unknown lane", "dev development B\nlive live", moves("dev>live"), []string{"dev: There is no lane B"}},
		{"an empty lane", line, good + lane("B", "b"), []string{"lane B: No environment is in it"}},
		{"an unknown gate", line, good + "gates = [\"tests\"]\n", []string{"test → live: There is no gate tests"}},
		{"a gate that nobody opens", line,
			good + "gates = [\"yes\"]\n[[pipeline.gate]]\nname = \"yes\"\napprovals = 2\nby = [\"leads\"]\n[team.roles]\n" +
				"leads = [\"Ravi\"]\n",
			[]string{"gate yes: It asks for 2 approvals, and only 1"}},
		{"a gate that no move uses", line, good + "[[pipeline.gate]]\nname = \"yes\"\nrest = \"1d\"\n",
			[]string{"gate yes: No move uses it"}},
		{"a gate by a name that is taken", line, good + "gates = [\"freeze\"]\n[[pipeline.gate]]\nname = \"freeze\"\nrest = \"1d\"\n",
			[]string{"gate freeze: Every move has a gate of that name"}},
		{"a freeze that ends before it begins", line, good + "[[pipeline.freeze]]\nfrom = \"2026-12-24\"\nuntil = \"2026-12-20\"\n",
			[]string{"freeze 1: It ends on 2026-12-20, before it begins"}},
		{"a freeze of a day", line, good + "[[pipeline.freeze]]\nfrom = \"2026-12-24\"\nuntil = \"2026-12-24\"\n", nil},
		{"a window that never opens", line, good + "[[pipeline.window]]\nenvironments = [\"moon\"]\nfrom = \"20:00\"\nuntil = \"20:00\"\n",
			[]string{"window 1: It never opens", "window 1: It names moon"}},
		{"an environment outside", line + "\nscratch", good, []string{"scratch: It is outside of the pipeline"}},
		{"no live", "dev development\ntest test", moves("dev>test"),
			[]string{"test: No move leads on", "dev: No path leads", "No environment is live"}},
	} {
		var got []string
		for _, f := range parse(t, c.environments, c.rest).Check(nil) {
			got = append(got, f.Where+": "+f.What)
			if f.Do == "" {
				t.Errorf("%s: %s does not say what to do", c.name, f.What)
			}
		}
		if len(got) != len(c.want) {
			t.Errorf("%s: %d findings, want %d:\n%s", c.name, len(got), len(c.want), strings.Join(got, "\n"))
		}
		for _, w := range c.want {
			if !slices.ContainsFunc(got, func(g string) bool { return strings.Contains(g, w) }) {
				t.Errorf("%s: nothing says %q:\n%s", c.name, w, strings.Join(got, "\n"))
			}
		}
	}
	l := parse(t, line, good)
	l.Manifest.Environments[1].Controllers, l.Manifest.Environments[1].OnCall = []string{"Ravi"}, []string{"Odalys"}
	known := &Targets{Place: func(target string) string { return strings.TrimPrefix(target, "x:./") },
		KindOf: func(string) string { return "schema" }}
	if got := l.Check(known); len(got) == 0 || !strings.Contains(got[0].What, "compared as mere text") {
		t.Errorf("databases that nothing declares: %v", got)
	}
	l = parse(t, line, good)
	l.Manifest.Environments[2].Controllers = []string{"Ravi", "Odalys"}
	l.Manifest.Environments[3].Target = l.Manifest.Environments[2].Target
	if got := l.Check(nil); len(got) != 2 || !strings.Contains(got[0].What, "same place as test") ||
		!strings.Contains(got[1].What, "Two control it: Ravi and Odalys") {
		t.Errorf("two controllers, one target: %v", got)
	}
}

func TestLaterFollowsTheMoves(t *testing.T) {
	names := func(list []manifest.Environment) string {
		var out []string
		for _, e := range list {
			out = append(out, e.Name)
		}
		return strings.Join(out, " ")
	}
	l := parse(t, line+"\nfix development\n", lane("A", "a")+moves("dev>int int>test test>live fix>live"))
	for name, want := range map[string]string{"dev": "int test live", "test": "live", "fix": "live", "live": ""} {
		if got := names(l.Later(name)); got != want {
			t.Errorf("later than %s: %q, want %q", name, got, want)
		}
	}
	column := l.Column()
	if column["dev"] != 0 || column["int"] != 1 || column["test"] != 2 || column["live"] != 3 || column["fix"] != 0 {
		t.Errorf("columns: %v", column)
	}
	if _, ok := l.Move("dev", "live"); ok {
		t.Error("a move that is not declared is allowed")
	}
	free := parse(t, line, lane("A", "a"))
	if got := names(free.Later("int")); got != "test live" {
		t.Errorf("without moves, later than int: %q", got)
	}
	if _, ok := free.Move("dev", "live"); !ok {
		t.Error("without moves, not everything is allowed")
	}
}

func TestBookingsAreServedInTheirOrder(t *testing.T) {
	day := func(d int) time.Time { return time.Date(2026, 6, d, 9, 0, 0, 0, time.UTC) }
	b := func(id int64, lane string, from, until int, lasts time.Duration) ledger.Booking {
		x := ledger.Booking{ID: id, Environment: "stage", Lane: lane, Begins: day(from), Lasts: lasts}
		if until > 0 {
			x.Ends = day(until)
		}
		return x
	}
	all := []ledger.Booking{b(1, "A", 1, 5, 0), b(2, "B", 2, 0, 48*time.Hour), b(3, "C", 3, 4, 0), b(4, "C", 3, 0, 24*time.Hour),
		b(5, "A", 4, 6, 0), b(6, "B", 1, 2, 0)}
	all[5].Environment = "other"
	text := func(at time.Time) string {
		var out []string
		for _, s := range Coming(all, "stage", at) {
			out = append(out, fmt.Sprintf("%d:%d-%d", s.ID, s.From.Day(), s.Until.Day()))
		}
		return strings.Join(out, " ")
	}
	if got := text(day(1)); got != "1:1-5 2:5-7 4:7-8" {
		t.Errorf("schedule: %s", got)
	}
	if s, ok := Held(all, "stage", day(3)); !ok || s.ID != 1 {
		t.Errorf("on the third: %v", s)
	}
	all[0].Ended = day(2) // the first is given back early
	if s, ok := Held(all, "stage", day(3)); !ok || s.ID != 2 || s.Waits() {
		t.Errorf("after the first ended: %v", s)
	}
	if _, ok := Held(all, "stage", day(30)); ok {
		t.Error("it is held for ever")
	}
}

// TestGatesThatWorkWouldBeCarriedPast asks for a lane's ways to a stage, one of which has a
// stage between.
func TestGatesThatWorkWouldBeCarriedPast(t *testing.T) {
	l := Of(&manifest.Manifest{
		Environments: []manifest.Environment{{Name: "a", Lane: "north"}, {Name: "b", Lane: "south"}, {Name: "b-int", Lane: "south"},
			{Name: "c", Lane: "fix"}, {Name: "test", Gates: []string{"all"}}, {Name: "live"}},
		Pipeline: manifest.Pipeline{
			Lanes: []manifest.Lane{{Name: "north"}, {Name: "south"}, {Name: "fix"}, {Name: "idle"}},
			Moves: []manifest.Move{{From: "a", To: "test"}, {From: "b", To: "b-int", Gates: []string{"built"}},
				{From: "b-int", To: "test", Gates: []string{"seen"}}, {From: "test", To: "live", Gates: []string{"late"}}, {From: "live",
					To: "b"}, {From: "c", To: "live"}},
		},
	})
	for _, x := range []struct {
		lane, asked, has, want string
	}{
		{"south", "all", "", "built seen"},
		{"south", "all", "b-int", "seen"},
		{"south", "all seen", "b-int", ""},
		{"south", "all seen built", "", ""},
		{"south", "", "b-int", "seen all"},
		{"north", "all", "", ""},
		{"fix", "", "", ""},  // no way leads there
		{"idle", "", "", ""}, // it has no environment
	} {
		missing, passes := l.Passes(x.lane, "test", strings.Fields(x.asked), func(name string) bool { return name == x.has })
		if got := strings.Join(missing, " "); x.lane != "fix" && got != x.want || passes != (got == "") {
			t.Errorf("%s, asked %q, had by %q: %q, %v; want %q", x.lane, x.asked, x.has, got, passes, x.want)
		}
	}
}
