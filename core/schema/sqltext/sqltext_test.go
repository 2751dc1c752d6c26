package sqltext

import (
	"slices"
	"strings"
	"testing"
)

var (
	standard = &Dialect{Quote: '"', Fold: true, Dollar: true, Nested: true, Reserved: Words("select from table")}
	other    = &Dialect{Quote: '`', Backslash: true, Hash: true, DoubleString: true, Delimiter: true, Bare: true, Reserved: Words("select"),
		Keywords: Words("select key")}
)

func texts(ts []Token) []string {
	out := []string{}
	for _, t := range ts {
		out = append(out, t.Text)
	}
	return out
}

func TestTokens(t *testing.T) {
	for _, c := range []struct {
		dialect *Dialect
		sql     string
		want    []string
	}{
		{standard, `select a."b ""c""", 'it''s' -- end`, []string{"select", "a", ".", `"b ""c"""`, ",", "'it''s'", "-- end"}},
		{standard, `E'a\'b' $$x;$$ $t$ $$ $t$ $1`, []string{`E'a\'b'`, "$$x;$$", "$t$ $$ $t$", "$", "1"}},
		{standard, `a::text<>-1.5e-3 /* x /* y */ z */ b`, []string{"a", "::", "text", "<>", "-", "1.5e-3", "/* x /* y */ z */", "b"}},
		{standard, `'a\'`, []string{`'a\'`}},
		{other, "`a``b` 'x\\'y' \"str\" # note\n1abc 0x1F", []string{"`a``b`", `'x\'y'`, `"str"`, "# note", "1abc", "0x1F"}},
		{standard, `水槽 = 'ä'`, []string{"水槽", "=", "'ä'"}},
		{standard, `a->>'x' ~~* b`, []string{"a", "->>", "'x'", "~~*", "b"}},
	} {
		ts, err := c.dialect.Scan(c.sql)
		if err != nil || !slices.Equal(texts(ts), c.want) {
			t.Errorf("%s: %q, %v", c.sql, texts(ts), err)
		}
	}
	for _, sql := range []string{"'a", `"a`, "/* a", "$$ a", "$a$ b $$", "\xff"} {
		if _, err := standard.Scan("x\n" + sql); err == nil || sql != "\xff" && !strings.Contains(err.Error(), "line 2") {
			t.Errorf("%q: %v", sql, err)
		}
	}
}

func TestStatements(t *testing.T) {
	for _, c := range []struct {
		dialect *Dialect
		sql     string
		want    []string
	}{
		{standard, "select 1; select 2", []string{"select 1;", "select 2"}},
		{standard, "create rule r as on delete to t do also (select 1; select 2); select 3;",
			[]string{"create rule r as on delete to t do also (select 1; select 2);", "select 3;"}},
		{standard, "create function f() returns int begin atomic select case when a then 1 end; select 2; end; select 3;",
			[]string{"create function f() returns int begin atomic select case when a then 1 end; select 2; end;", "select 3;"}},
		{standard, "create function f() as $$ begin; end; $$; select 1;",
			[]string{"create function f() as $$ begin; end; $$;", "select 1;"}},
		{other, "delimiter //\ncreate procedure p() begin select 1; end//\ndelimiter ;\nselect 2;",
			[]string{"create procedure p() begin select 1; end//", "select 2;"}},
		{other, "create procedure p() begin if a then select 1; end if; case when b then select 2; end case; end; select 3;",
			[]string{"create procedure p() begin if a then select 1; end if; case when b then select 2; end case; end;", "select 3;"}},
		{standard, "-- only a note\n;;", nil},
	} {
		list, err := c.dialect.Statements(c.sql)
		var got []string
		for _, s := range list {
			got = append(got, c.sql[s.From:s.To])
		}
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, %v", c.sql, got, err)
		}
	}
	list, err := standard.Statements("-- first\nselect 1;\n-- second\nselect 2;")
	if err != nil || len(list) != 2 || len(list[1].Before) != 1 || list[1].Before[0].Text != "-- second" || list[1].Line != 4 {
		t.Errorf("comments before statements: %v, %v", list, err)
	}
}

func TestNamesAndStrings(t *testing.T) {
	for name, want := range map[string]string{"tank": "tank", "Tank": `"Tank"`, "select": `"select"`, `a"b`: `"a""b"`, "1st": `"1st"`,
		"": `""`, "a b": `"a b"`} {
		if got := standard.Name(name); got != want {
			t.Errorf("%q is written %s", name, got)
		}
		if ts, err := standard.Scan(standard.Name(name)); err != nil || len(ts) != 1 || standard.NameOf(ts[0]) != name {
			t.Errorf("%q does not come back: %v, %v", name, texts(ts), err)
		}
	}
	for _, s := range []string{"", "it's", `a\b`, "two\nlines", `\'; drop`, "水"} {
		for _, d := range []*Dialect{standard, other} {
			lit := d.String(s)
			if ts, err := d.Scan(lit); err != nil || len(ts) != 1 || d.Unquote(ts[0].Text) != s {
				t.Errorf("%q written %s does not come back", s, lit)
			}
		}
	}
	if got := standard.Small(`SELECT "A", 'B' FROM  X`); got != `select "A", 'B' from  x` {
		t.Errorf("small: %s", got)
	}
	ts, _ := other.Scan("SELECT `a` , `b c` , KEY ( Tank )")
	if got := other.Flat(ts); got != "select a, `b c`, key (Tank)" {
		t.Errorf("flat: %s", got)
	}
}

func TestTheCursor(t *testing.T) {
	ts, _ := standard.Scan("create table care.tank (a int, b (c, d)) rest")
	c := &Cursor{Tokens: ts}
	if !c.Skip("create", "table") || c.Peek("table") {
		t.Fatal("the words are not skipped")
	}
	if got := c.QualifiedName(standard); !slices.Equal(got, []string{"care", "tank"}) {
		t.Errorf("name %q", got)
	}
	if parts := Commas(Inside(c.Group())); len(parts) != 2 || len(parts[1]) != 6 {
		t.Errorf("parts %v", parts)
	}
	if got := texts(c.Rest()); !slices.Equal(got, []string{"rest"}) || c.More() || c.Next().Text != "" {
		t.Errorf("rest %q", got)
	}
}

func FuzzStatements(f *testing.F) {
	for _, s := range []string{"select 1;", "delimiter //\nx//", "create function f() begin atomic select 1; end;", "'", "$$", "/*",
		"create trigger t begin case end; end"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, sql string) {
		for _, d := range []*Dialect{standard, other} {
			list, err := d.Statements(sql)
			if err != nil {
				continue
			}
			at := 0
			for _, s := range list {
				if s.From < at || s.To < s.From || s.To > len(sql) || len(Meaning(s.Tokens)) == 0 {
					t.Fatalf("%q: a statement from %d to %d after %d", sql, s.From, s.To, at)
				}
				at = s.From + 1
				d.Flat(s.Tokens)
			}
		}
	})
}
