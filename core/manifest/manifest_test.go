package manifest

import (
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/fault"
)

const sample = `project = "brindle"
leave-out = ["**/*.tmp", "cache"]

[[artifact]]
path = "database"
kind = "schema"

# our own
[[environment]]
name = "dev"
target = "sqlite:dev.db"
into = "database"

# the testers'
[[environment]]
name = "test"
target = "sqlite:test.db"
into = "database"

[[lock]]
match = "exhibit/**"
policy = "required"

[[lock]]
kind = "text"
policy = "off"
`

func TestWhatIsLeftOutAndLocked(t *testing.T) {
	m, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	for p, want := range map[string]bool{"a/b.tmp": true, "cache/x/y": true, "dev.db": true, "test.db-wal": true, "reef.glb": false,
		".oaken/x": true, "a/cache": false, "dev.db2": false} {
		if m.LeftOut(p) != want {
			t.Errorf("%s: left out is %v", p, !want)
		}
	}
	policy := func(p, kind string) Policy { found, _ := m.LockPolicy(p, kind); return found }
	if policy("exhibit/a/reef.glb", "scene") != Required || policy("exhibit/a.txt", "text") != Off || policy("x", "opaque") != "" {
		t.Error("lock policies")
	}
	if a, ok := m.Folder("database/tables/tank.sql"); !ok || a.Kind != "schema" {
		t.Error("folder artifact")
	}
}

func TestANewManifestCanBeRead(t *testing.T) {
	if _, err := Parse(First("a \"b\"")); err != nil {
		t.Error(err)
	}
}

func TestMistakesAreNamed(t *testing.T) {
	for text, want := range map[string]string{
		"colour = 1": "no key colour", "project = ": "line 1", "[[lock]]\npolicy=\"required\"": "match",
		"[[environment]]\nname=\"a\"\ntarget=\"x\"\ninto=\"d\"": "scheme",
		"[[artifact]]\npath=\"../x\"\nkind=\"text\"":            "inside", "leave-out=[\"[\"]": "well formed",
		"[[lock]]\nmatch=\"a\"\npolicy=\"never\"": "none of", "[message]\npattern=\"(\"": "well formed",
	} {
		_, err := Parse([]byte(text))
		if fault.CodeOf(err) != fault.Usage || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestRulesForMessages(t *testing.T) {
	m, err := Parse([]byte("[message]\nminimum = 10\nitem = true\npattern = \"^[A-Z]\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ message, item, want string }{
		{"Too short", "AQ-1", "9 characters"}, {"Long enough", "", "which work item"}, {"not a capital", "AQ-1", "does not match"},
		{"Long enough", "AQ-1", ""},
	} {
		err := m.Message.Check(c.message, c.item)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%q for %q: %v", c.message, c.item, err)
		}
	}
}

func TestEveryFormOfPatternMeansWhatTheGeneralOneDoes(t *testing.T) {
	patterns := []string{"**/*.tmp", "**/cache", "cache", "build/**", "**/*.a.b", "**/*~", "**/[ab]x", "a/*/c", "**/{x,y}.z", "**/a/b",
		"*.log", "**/*", "**/.hidden"}
	paths := []string{"a.tmp", "x/a.tmp", "tmp", ".tmp", "cache", "d/cache", "build/x", "build", "q.a.b", "x/q.b", "file~", "d/ax", "a/b/c",
		"a/b/c/d", "x.z", "d/y.z", "a/b", "q/a/b", "r.log", "d/r.log", ".hidden", "d/.hidden", "bx"}
	for _, pattern := range patterns {
		m := &Manifest{LeaveOut: []string{pattern}}
		for _, p := range paths {
			want, err := doublestar.Match(pattern, p)
			if err != nil {
				t.Fatal(err)
			}
			if got := m.LeftOutHere(p); got != want {
				t.Errorf("%s for %s: %v, the general form says %v", pattern, p, got, want)
			}
		}
	}
}
