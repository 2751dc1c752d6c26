package scope

import (
	"testing"

	"oakenchest/core/element"
)

func made(typ, key string, props ...string) *element.Element {
	e := &element.Element{Type: typ, Key: key, Firm: true}
	for i := 0; i+1 < len(props); i += 2 {
		e.Set(props[i], element.TextValue(props[i+1]))
	}
	return e
}

func database() *element.Element {
	tank := made("table", "tank", "owner", "imke", "comment", "all tanks", "grant to tarek", "select", "counting from", "7")
	tank.Add(made("column", "code", "type", "text", "collate", "C", "comment", "painted"), made("statistics", "s"))
	return (&element.Element{Type: "database"}).Add(
		made("schema", "care").Add(tank, made("view", "tmp_view", "owner", "ravi", "definition", "select  1"),
			made("table", "old", "owner", "ravi")),
		made("publication", "all", "definition", "x"), made("extension", "citext"))
}

func has(e *element.Element, steps ...string) bool {
	var at []element.Step
	for i := 0; i+1 < len(steps); i += 2 {
		at = append(at, element.Step{Type: steps[i], Key: steps[i+1]})
	}
	return e.Find(at) != nil
}

func TestWhatIsTracked(t *testing.T) {
	plain := Scope{}.Apply(database())
	tank := plain.Find([]element.Step{{Type: "schema", Key: "care"}, {Type: "table", Key: "tank"}})
	if tank == nil || !tank.Prop("owner").IsAbsent() || !tank.Prop("grant to tarek").IsAbsent() || !tank.Prop("counting from").IsAbsent() ||
		tank.Prop("comment").IsAbsent() || has(plain, "publication", "all") {
		t.Errorf("without a choice: %v", tank)
	}
	full := Scope{Track: []string{"owners", "privileges", "replication", "counters"}}.Apply(database())
	if element.Compare(full, database()) != nil {
		t.Error("with everything tracked something is missing")
	}
	lean := Scope{Ignore: []string{"comments", "collation", "statistics", "white-space"}}.Apply(database())
	tank = lean.Find([]element.Step{{Type: "schema", Key: "care"}, {Type: "table", Key: "tank"}})
	if !tank.Prop("comment").IsAbsent() || !tank.Children[0].Prop("collate").IsAbsent() || len(tank.Children) != 1 {
		t.Errorf("with switches: %v", tank)
	}
	view := lean.Find([]element.Step{{Type: "schema", Key: "care"}, {Type: "view", Key: "tmp_view"}})
	if view.Prop("definition").Text() != "select 1" {
		t.Errorf("white space stays: %q", view.Prop("definition").Text())
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		scope           Scope
		tank, view, ext bool
	}{
		{Scope{Only: []string{"care.*"}}, true, true, false},
		{Scope{Only: []string{"table:care.*"}}, true, false, false},
		{Scope{Only: []string{"extension:*"}}, false, false, true},
		{Scope{Skip: []string{"tmp_*"}}, true, false, true},
		{Scope{Skip: []string{"view:*"}}, true, false, true},
		{Scope{Owners: []string{"imke"}}, true, false, false},
	} {
		got := c.scope.Apply(database())
		if has(got, "schema", "care", "table", "tank") != c.tank || has(got, "schema", "care", "view", "tmp_view") != c.view ||
			has(got, "extension", "citext") != c.ext {
			t.Errorf("%+v takes %v", c.scope, got)
		}
	}
}

func TestAnOverlayKeepsWhatIsOutOfScope(t *testing.T) {
	s := Scope{Skip: []string{"old"}}
	want := (&element.Element{Type: "database"}).Add(made("schema", "care").Add(made("table", "tank", "comment", "new"),
		made("table", "fresh")))
	got := s.Overlay(want, database())
	tank := got.Find([]element.Step{{Type: "schema", Key: "care"}, {Type: "table", Key: "tank"}})
	if tank.Prop("owner").Text() != "imke" || tank.Prop("comment").Text() != "new" || tank.Prop("grant to tarek").IsAbsent() {
		t.Errorf("the table becomes %v", tank)
	}
	if !has(got, "schema", "care", "table", "old") || !has(got, "schema", "care", "table", "fresh") || !has(got, "publication", "all") ||
		has(got, "extension", "citext") || has(got, "schema", "care", "view", "tmp_view") {
		t.Errorf("the whole becomes %v", got)
	}
}

func TestMistakesAreTold(t *testing.T) {
	for _, s := range []Scope{{Only: []string{"[x"}}, {Skip: []string{""}}, {Ignore: []string{"nothing"}}, {Track: []string{"nothing"}}} {
		if s.Check() == nil {
			t.Errorf("%+v is taken", s)
		}
	}
	if err := (Scope{Only: []string{"table:care.*"}, Ignore: []string{"comments"}, Track: []string{"owners"}}).Check(); err != nil {
		t.Error(err)
	}
}

func TestNamesThatTheEngineMadeMakeNoDifference(t *testing.T) {
	table := func(names ...string) *element.Element {
		e := made("table", "tank")
		for i, n := range names {
			e.Add(made("constraint", n, "definition", []string{"unique (code)", "foreign key (kind) references kind(id)"}[i]))
		}
		return (&element.Element{Type: "database"}).Add(made("schema", "care").Add(e))
	}
	s := Scope{Ignore: []string{"constraint-names"}}
	like := table("tank_code_key", "tank_kind_fkey")
	for _, c := range []struct {
		names []string
		same  bool
	}{{[]string{"tank_code_key1", "old_kind_fkey"}, true}, {[]string{"one_code", "tank_kind_fkey"}, false},
		{[]string{"tank_kind_fkey", "tank_code_key"}, false}} {
		tree := table(c.names...)
		got := s.Align(tree, like)
		if (element.Compare(got, like) == nil) != c.same || element.Compare(tree, table(c.names...)) != nil {
			t.Errorf("%v becomes %v", c.names, got.Dump())
		}
		if element.Compare(Scope{}.Align(tree, like), tree) != nil {
			t.Error("names are aligned though they count")
		}
	}
}
