package pipeline

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/environment"
	"oakenchest/core/kind/sqlfolder"
)

// database declares tables, views and rows by chance: each is there or not, in one of
// two versions.
func database(r *rand.Rand) environment.Files {
	files := environment.Files{}
	for i := range 5 {
		if r.IntN(4) == 0 {
			continue
		}
		extra := []string{"", ",\n  note text"}[r.IntN(2)]
		files[fmt.Sprintf("care/tables/t%d.sql",
			i)] = []byte(fmt.Sprintf("-- table %d\ncreate table care.t%d (\n  id integer primary key,\n  code text%s\n);\n", i, i, extra))
		if r.IntN(2) == 0 {
			files[fmt.Sprintf("care/rows/t%d.csv", i)] = []byte(fmt.Sprintf("id,code\n1,%s\n", []string{"reef", "kelp"}[r.IntN(2)]))
		}
	}
	for i := range 3 {
		if r.IntN(2) == 0 {
			files[fmt.Sprintf("care/views/v%d.sql", i)] = []byte(fmt.Sprintf("create view care.v%d as\nselect %d as n;\n", i, r.IntN(2)))
		}
	}
	if r.IntN(2) == 0 {
		files["care/schema.sql"] = []byte("create schema care;\n\ncomment on schema care is 'Care';\n")
	}
	return files
}

// TestAMixHasEachObjectFromItsSide mixes two databases by chance and reads the result.
func TestAMixHasEachObjectFromItsSide(t *testing.T) {
	r := rand.New(rand.NewPCG(rand.Uint64(), 3))
	f := folder{"database", sqlfolder.Postgres{}}
	for round := range 200 {
		own, err := f.read(database(r))
		if err != nil {
			t.Fatal(err)
		}
		other, err := f.read(database(r))
		if err != nil {
			t.Fatal(err)
		}
		taken := map[string]bool{}
		for _, name := range differing(own, other) {
			taken[name] = r.IntN(2) == 0
		}
		// Rows go with their table: without it nobody could read them.
		for name := range taken {
			if at, table, rows := strings.Cut(name, "rows:"); rows {
				taken[name] = taken[at+"table:"+table]
				if same(own, other, at+"table:"+table) {
					taken[name] = true
				}
			}
		}
		files, err := f.mix(own, other, func(name string) bool { return taken[name] })
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		got, err := f.read(files)
		if err != nil {
			t.Fatalf("round %d: %v\n%v", round, err, slices.Sorted(maps.Keys(files)))
		}
		for _, name := range differing(own, other) {
			from, wrong := own, other
			if taken[name] {
				from, wrong = other, own
			}
			if name == "schema:care" {
				continue // is there as long as something is in it
			}
			if !same(got, from, name) || same(got, wrong, name) {
				t.Errorf("round %d: %s is not as its side has it", round, name)
			}
		}
		for name := range own.objects {
			if same(own, other, name) && !same(got, own, name) {
				t.Errorf("round %d: %s, which both have alike, has changed", round, name)
			}
		}
		for name, data := range own.files { // what was not taken keeps every byte
			if string(files[name]) == string(data) || !strings.HasPrefix(name, "care/tables/") {
				continue
			}
			if table := "schema:care/table:" + strings.TrimSuffix(name[len("care/tables/"):], ".sql"); same(own, other, table) ||
				!taken[table] {
				t.Errorf("round %d: %s was written, though %s stays", round, name, table)
			}
		}
	}
}

func TestFilesOfAFolderAreMixedWhole(t *testing.T) {
	f := folder{path: "exhibit"}
	a, _ := f.read(environment.Files{"same": []byte("1"), "edited": []byte("1"), "mine": []byte("1"), "mine too": []byte("1")})
	b, _ := f.read(environment.Files{"same": []byte("1"), "edited": []byte("2"), "theirs": []byte("2"), "theirs too": []byte("2")})
	if got := fmt.Sprint(differing(a, b)); got != `[file:edited file:mine file:mine too file:theirs file:theirs too]` {
		t.Errorf("what differs: %s", got)
	}
	files, err := f.mix(a, b, func(name string) bool { return !strings.Contains(name, "too") })
	if err != nil || len(files) != 4 || string(files["edited"]) != "2" || string(files["theirs"]) != "2" ||
		string(files["mine too"]) != "1" {
		t.Errorf("mixed: %q, %v", files, err)
	}
	if e := edits(a.files, files); len(e) != 3 || e["mine"] != nil || string(e["edited"]) != "2" {
		t.Errorf("edits: %q", e)
	}
}

func TestDirectionsByDefault(t *testing.T) {
	for _, c := range []struct {
		prefer      Prefer
		here, there bool
		want        Direction
	}{
		{PreferNone, true, false, ToEnvironment}, {PreferNone, false, true, ToChest}, {PreferNone, true, true, Leave}, {PreferNone, false,
			false, Leave},
		{PreferChest, false, true, ToEnvironment}, {PreferEnvironment, true, false, ToChest}, {PreferNeither, true, false, Leave},
	} {
		if got := direction(c.prefer, c.here, c.there); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}

func TestAPlanIsReadAsItWasWritten(t *testing.T) {
	p := SettlePlan{Format: settleFormat, Environment: `a "b" 'c'`,
		Objects: []Settled{{Address: `schema:care/table:"it's"`, Chest: Edited, Environment: Gone, Seen: "1/none", Direction: ToChest}}}
	text, err := p.Text()
	if err != nil || !strings.HasPrefix(string(text), "# What becomes of each object") {
		t.Fatal(string(text), err)
	}
	got, err := ParseSettlePlan(text)
	if err != nil || got.Environment != p.Environment || len(got.Objects) != 1 || got.Objects[0].Address != p.Objects[0].Address ||
		got.Count(ToChest) != 1 {
		t.Errorf("read as %+v, %v", got, err)
	}
	for _, bad := range []string{"", "format = 'other/9'", "format = 'oaken.settle/1'\nnothing = 1",
		"format = 'oaken.settle/1'\n[[object]]\naddress = 'x'\ndirection = 'up'", "["} {
		if _, err := ParseSettlePlan([]byte(bad)); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzParseSettlePlan(f *testing.F) {
	f.Add([]byte("format = 'oaken.settle/1'\nenvironment = 'dev'\n[[object]]\naddress = 'table:a'\ndirection = 'leave'\n"))
	f.Add([]byte("format = 1"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := ParseSettlePlan(data)
		if err != nil {
			return
		}
		text, err := p.Text()
		if err != nil {
			t.Fatal(err)
		}
		if again, err := ParseSettlePlan(text); err != nil || len(again.Objects) != len(p.Objects) {
			t.Errorf("%q reads otherwise when written again: %v", data, err)
		}
	})
}
