package datastep

import (
	"slices"
	"strings"
	"testing"

	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

var plain = &sqltext.Dialect{Quote: '"', Fold: true, Dollar: true}

func split(text string) ([]Statement, error) { return SplitBy(plain, text) }

func TestAFileSaysWhenItRunsAndHowItIsTakenBack(t *testing.T) {
	s, err := Parse(split, "data-steps/0001-x.sql",
		[]byte("-- About it: see the note.\n-- RUN: After\nupdate a set b = 'x;y' -- why\n where c;\ninsert into d values (1)\n;\n\n"+
			"--check:\nselect 1 from a where b is null;\n-- back:\nupdate a set b = null;\ndelete from d"))
	if err != nil {
		t.Fatal(err)
	}
	if s.Name != "0001-x" || s.When != After || len(s.Body) != 2 || len(s.Checks) != 1 ||
		!slices.Equal(s.Back, []string{"update a set b = null", "delete from d"}) {
		t.Errorf("%+v", s)
	}
	for _, c := range [][2]string{
		{"-- run: sometimes\nselect 1", "line 1: \"sometimes\" is no time to run"},
		{"select 1;\n-- run: after\n", "line 2: `-- run:` belongs above the first statement"},
		{"update a set b = 1\n-- back:\nselect 1;", "line 2: `-- back:` stands within a statement"},
		{"select 1;\n-- back:\n", "nothing stands under `-- back:`"},
		{"select 1;\n-- back: nothing\nselect 2;", "line 3: after `-- back: nothing` no statement follows"},
		{"select 1;\n-- back: update a\n", "line 2: what belongs to `-- back:` stands on the lines under it"},
		{"select 1;\n-- check:\nupdate a set b = 1;", "line 3: a check is a query"},
		{"-- only words\n", "it has no statement"},
		{"update a set b = 1;\ncommit;", "line 2: commit has no place in a data step"},
		{"-- run: after\n-- run: after\nselect 1", "is there twice"},
	} {
		if _, err := Parse(split, "data-steps/x.sql", []byte(c[0])); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%q: %v", c[0], err)
		}
	}
}

func TestWhatAStepMayOverwriteIsNamed(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string
		sure bool
	}{
		{"insert into a select * from b; select f();", nil, true},
		{"-- why\nupdate only care.\"Tank\" set x = 1; /* and */ delete from b where c; truncate table d;",
			[]string{`care."Tank"`, "b", "d"}, true},
		{"update a set b = 1; update a set c = 2;", []string{"a"}, true},
		{"drop table a;", nil, false},
		{"insert into a values (1) on conflict (id) do update set b = 2;", nil, false},
		{"insert into a values (1) on duplicate key update b = 2;", nil, false},
		{"insert or replace into a values (1);", nil, false},
		{"insert into a values (1) on conflict do nothing;", nil, true},
		{"with x as (delete from a returning *) insert into b select * from x;", nil, false},
		{"do $$ begin delete from a; end $$;", nil, false},
		{"update a set b = 1;\n-- back: nothing\n", nil, true},
		{"delete from a;\n-- back:\ninsert into a values (1);", nil, true},
	} {
		s, err := Parse(split, "data-steps/x.sql", []byte(c.text))
		if err != nil {
			t.Fatal(err)
		}
		if got, sure := s.Overwrites(); !slices.Equal(got, c.want) || sure != c.sure {
			t.Errorf("%s: %v, %v", c.text, got, sure)
		}
	}
}

func TestPlansSkipWhatHasRun(t *testing.T) {
	j := Journal{Add: func(token, name, text string, back bool) string { return "note " + token + " " + name }, Make: []string{"make"},
		Begin: []string{"begin"}, End: []string{"end"}}
	files := declared.Files{"data-steps/1.sql": []byte("insert into a values (1);"),
		"data-steps/2.sql": []byte("-- run: before\ninsert into a values (2);\n-- back:\nselect 2;")}
	none := func(string) (string, string, bool) { return "", "", false }
	done := []Entry{{Token: "now", Name: "1", Text: "insert into a values (1);"}, {Token: "older", Name: "2"},
		{Token: "now", Name: "3", Text: "select 3;\n-- back:\nselect -3;"}}
	w := Wanted{Due: []string{"data-steps/1.sql", "data-steps/2.sql"}, Tokens: []string{"now"}}
	got, bare, err := j.Plan(split, files, w, done, none)
	if err != nil || len(got.Before) != 1 || len(got.Between)+len(got.After)+len(bare) != 0 {
		t.Fatalf("%+v, %v, %v", got, bare, err)
	}
	if s := j.Written(got.Before, "now")[0].Statements; strings.Join(s, "|") != "make|begin|insert into a values (2)|note now 2|end" {
		t.Error(s)
	}
	w = Wanted{Back: declared.Files{"data-steps/2.sql": files["data-steps/2.sql"], "data-steps/1.sql": files["data-steps/1.sql"]},
		Tokens: []string{"now"}, Undo: true}
	got, bare, err = j.Plan(split, nil, w, done, none)
	if err != nil || len(got.After) != 1 || len(got.Between) != 1 || got.Between[0].Run.Name != "3" || !slices.Equal(bare, []string{"1"}) {
		t.Errorf("%+v, %v, %v", got, bare, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("-- run: before\nselect 1;\n-- check:\nselect 2;\n-- back:\nselect 3;")
	f.Add("select $x$ -- back: $x$;")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(split, "data-steps/x.sql", []byte(text))
		if err == nil && len(s.Body) == 0 {
			t.Error("a step that does nothing")
		}
		if err == nil {
			s.Overwrites()
		}
	})
}

func TestAStepMendsWhatItNamesOrCalls(t *testing.T) {
	j := Journal{Check: func(name, query string) []string { return []string{"select " + query} }}
	none := func(string) (string, string, bool) { return "", "", false }
	for text, want := range map[string]bool{
		"update care.tank set a = 1;\n-- check:\nselect 1;": true, "update tanks set a = 1;\n-- check:\nselect * from tank;": false,
		"-- about tank\nupdate a set b = 1;": false, "select mend();": true, "insert into a\nselect 1 from b;": false,
		"update \"Tank\" set a = 1;": true,
	} {
		got, _, err := j.Plan(split, declared.Files{"data-steps/1.sql": []byte(text)}, Wanted{Due: []string{"data-steps/1.sql"}}, nil, none)
		if err != nil || got.Due().Mends("tank") != want {
			t.Errorf("%s: %v, %v", text, got.Due(), err)
		}
	}
}
