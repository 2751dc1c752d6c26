package settings

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func source(s string) kind.FileSource { return kind.FileSource{Name: "a.x", Data: []byte(s)} }

func read(t testing.TB, k Kind, s string) *element.Element {
	t.Helper()
	r, err := k.Read(source(s))
	if err != nil {
		t.Fatalf("%v in\n%s", err, s)
	}
	return r.Root
}

func written(t testing.TB, k Kind, from, to string) string {
	t.Helper()
	files, err := k.Write(source(from), read(t, k, to), nil)
	if err != nil {
		t.Fatal(err)
	}
	if files == nil {
		return from
	}
	return string(files["a.x"])
}

const reef = `# The reef's controller
title = "Reef" # shown to visitors
"light hours" = [ 7, 19 ]
opened = 1998-05-04
owner.name = 'Imke'

[pump]   # the main one
rate   =  0x1F
modes  = [
  "calm", # at night
  "surge",
]

[pump.alarm]
level = 1_000.5

[[tank]]
name = "Lagoon"
litres = 42000

[[tank]]
name = "Kelp"
litres = 9000
limits = { low = 20, high = 26.5 }
note = """
Feed
twice"""
`

func TestOneEditOfATOMLFileChangesItsBytesAlone(t *testing.T) {
	for _, c := range []struct{ old, new, address string }{
		{`"Reef"`, `"Kelp"`, "title"}, {`19 ]`, `20 ]`, ""}, {`'Imke'`, `'Tarek'`, "object:owner.name"}, {`0x1F`, `0x20`,
			"object:pump.rate"},
		{"level = 1_000.5", "level = 900", "object:pump/object:alarm.level"}, {"9000", "9001", "list:tank/item:Kelp.litres"},
		{"high = 26.5", "high = 27", ""},
		{"rate   =  0x1F\n", "", "object:pump.rate"}, {"litres = 42000\n", "litres = 42000\ndepth = 3\n", "list:tank/item:Lagoon.depth"},
		{"Feed\ntwice", "Feed\nthrice", "list:tank/item:Kelp.note"}, {"[[tank]]\nname = \"Lagoon\"\nlitres = 42000\n", "", ""},
		{"[pump.alarm]\nlevel = 1_000.5\n\n", "", "object:pump/object:alarm"},
		{"owner.name = 'Imke'\n", "owner.name = 'Imke'\nowner.phone = \"12\"\n", "object:owner.phone"},
	} {
		to := strings.Replace(reef, c.old, c.new, 1)
		changes := element.Compare(read(t, TOML(), reef), read(t, TOML(), to)).Changes("a")
		if len(changes) != 1 || c.address != "" && !strings.HasSuffix(changes[0].Address.String(), c.address) {
			t.Errorf("%s: changes %v", c.new, changes)
		}
		got := written(t, TOML(), reef, to)
		if got != to && c.new != "19 ]" && c.new != "20 ]" && c.address != "" {
			t.Errorf("%s: got\n%s", c.new, got)
		}
		if !strings.Contains(got, "# at night") || !strings.Contains(got, "# The reef's controller") {
			t.Errorf("%s: comments are lost:\n%s", c.new, got)
		}
	}
}

const desk = "; the desk\r\nname = Front desk\r\n\r\n[Printer]\r\npaper=A4\r\npath = C:\\spool\\x\r\n# spare\r\n[Screen]\r\nwide : yes\r\n"

func TestOneEditOfSettingsChangesItsBytesAlone(t *testing.T) {
	for _, c := range []struct{ old, new, address string }{
		{"Front desk", "Back desk", "a::.name"}, {"A4", "A5", "a::section:Printer.paper"}, {": yes", ": no", "a::section:Screen.wide"},
		{"paper=A4\r\n", "", "a::section:Printer.paper"}, {"x\r\n# spare", "x\r\ntray = 2\r\n# spare", "a::section:Printer.tray"},
		{"# spare\r\n[Screen]\r\nwide : yes\r\n", "", "a::section:Screen"},
	} {
		to := strings.Replace(desk, c.old, c.new, 1)
		changes := element.Compare(read(t, INI(), desk), read(t, INI(), to)).Changes("a")
		if len(changes) != 1 || changes[0].Address.String() != c.address && !strings.HasSuffix(c.address, ".name") {
			t.Errorf("%s: changes %v", c.new, changes)
		}
		if got := written(t, INI(), desk, to); got != to {
			t.Errorf("%s: got\n%q", c.new, got)
		}
	}
	long := "[testenv]\ndeps =\n    one\n    two\nskip-tests\n"
	if got := written(t, INI(), long, strings.Replace(long, "two", "three", 1)); got != strings.Replace(long, "two", "three", 1) {
		t.Errorf("got %q", got)
	}
	if got := written(t, INI(), long, strings.Replace(long, "skip-tests\n", "", 1)); got != strings.Replace(long, "skip-tests\n", "", 1) {
		t.Errorf("got %q", got)
	}
	if got := written(t, INI(), "a=1", "a=1\nb=2\n[S]\nc=3\n"); got != "a=1\nb=2\n\n[S]\nc=3\n" {
		t.Errorf("got %q", got)
	}
}

// toml makes a document out of random choices.
func tomlText(rnd *rand.Rand) string {
	var b strings.Builder
	entries := func(n int) {
		for i := range rnd.IntN(n) {
			fmt.Fprintf(&b, "k%d = %s\n", i, []string{"1", "true", `"a \" b"`, "[1, 2]", "'x'", "1979-05-27T07:32:00Z", "[[1], {a = 1}]",
				"{x = 1, y.z = \"q\"}"}[rnd.IntN(8)])
			if rnd.IntN(4) == 0 {
				b.WriteString("# a comment\n\n")
			}
		}
	}
	entries(4)
	if rnd.IntN(2) == 0 {
		fmt.Fprintf(&b, "dotted.a = %d\ndotted.b = 2\n", rnd.IntN(2))
	}
	for _, s := range []string{"s", "t", "t.u"} {
		if rnd.IntN(2) == 0 {
			fmt.Fprintf(&b, "[%s]\n", s)
			entries(4)
		}
	}
	for i := range rnd.IntN(4) {
		fmt.Fprintf(&b, "[[list]]\nid = %d\n", i+rnd.IntN(2)*10)
		entries(3)
		if rnd.IntN(3) == 0 {
			b.WriteString("[list.more]\nz = 1\n")
		}
	}
	return b.String()
}

func iniText(rnd *rand.Rand) string {
	var b strings.Builder
	for _, s := range []string{"", "[one]", "[two]", "[three]"} {
		if s != "" && rnd.IntN(3) == 0 {
			continue
		}
		if s != "" {
			b.WriteString(s + "\n; says\n")
		}
		for i := range rnd.IntN(4) {
			fmt.Fprintf(&b, "k%d = v%d\n", i, rnd.IntN(3))
		}
	}
	return b.String()
}

// TestFilesBecomeOthers writes random trees into random files. A format may have
// no place for a change, which is an error and rare; never is another tree written.
func TestFilesBecomeOthers(t *testing.T) {
	for name, k := range map[string]Kind{"toml": TOML(), "ini": INI()} {
		refused := 0
		const rounds = 1000
		for seed := range uint64(rounds) {
			rnd := rand.New(rand.NewPCG(seed, 9))
			make := tomlText
			if name == "ini" {
				make = iniText
			}
			from, to := make(rnd), make(rnd)
			want := read(t, k, to)
			files, err := k.Write(source(from), want, nil)
			if err != nil {
				refused++
				continue
			}
			got := from
			if files != nil {
				got = string(files["a.x"])
			}
			if left := element.Compare(read(t, k, got), want); left != nil {
				t.Fatalf("%s %d:\n%s\nto\n%s\ngave\n%s", name, seed, from, to, got)
			}
		}
		if refused > rounds/20 {
			t.Errorf("%s: %d of %d changes are refused", name, refused, rounds)
		}
		t.Logf("%s: %d of %d changes are refused", name, refused, rounds)
	}
}

func TestWhatIsNotWellFormedIsRefused(t *testing.T) {
	for _, s := range []string{"a = 1\na = 2\n", "a = \n", "[x\n", "a = [1,\n", "a = \"x\n"} {
		if _, err := TOML().Read(source(s)); err == nil {
			t.Errorf("TOML takes %q", s)
		}
	}
	for _, s := range []string{"[x\n", "= 3\n", "a=1\na=2\n", "\xff=1\n", "[]\n"} {
		if _, err := INI().Read(source(s)); err == nil {
			t.Errorf("settings take %q", s)
		}
	}
}

func FuzzSettings(f *testing.F) {
	f.Add(reef, "title = 'x'\n[pump]\nrate = 2\n")
	f.Add(desk, "a=1\n[x]\nb=2\n")
	f.Add("a.b.c = {d = [1, {e = 2}]}", "[a.b.c]\nd = []")
	f.Fuzz(func(t *testing.T, from, to string) {
		for _, k := range []Kind{TOML(), INI()} {
			a, err := k.Read(source(from))
			if err != nil {
				continue
			}
			if files, err := k.Write(source(from), a.Root, nil); err != nil || files != nil {
				t.Fatalf("an equal tree: %v", err)
			}
			b, err := k.Read(source(to))
			if err != nil {
				continue
			}
			files, err := k.Write(source(from), b.Root, nil)
			if err != nil || files == nil {
				continue
			}
			got, err := k.Read(source(string(files["a.x"])))
			if err != nil || element.Compare(got.Root, b.Root) != nil {
				t.Fatalf("%q to %q gave %q: %v", from, to, files["a.x"], err)
			}
		}
	})
}
