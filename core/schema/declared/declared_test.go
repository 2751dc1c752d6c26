package declared

import (
	"maps"
	"strings"
	"testing"
)

func text(s string) func() string { return func() string { return s } }

func nothing(text string) bool { return !strings.Contains(text, "create") }

func TestOnlyWhatDiffersIsWritten(t *testing.T) {
	files := Files{"a.sql": []byte("-- note\ncreate a;\n\ncreate b;\n"), "c.sql": []byte("create c;\n"), "readme.md": []byte("hello")}
	have := map[string][]Place{"a": {{File: "a.sql", From: 8, To: 17}}, "b": {{File: "a.sql", From: 19, To: 28}},
		"c": {{File: "c.sql", From: 0, To: 9}}}
	same := func(id string) bool { return id == "b" }
	out := Update(nil, files, have, []Object{{ID: "a", File: "tables/a.sql", Text: text("create a anew;\n")},
		{ID: "b", File: "tables/b.sql", Text: text("create b;\n")}, {ID: "d", File: "c.sql", Text: text("create d;\n")},
		{ID: "f1", File: "f.sql", Shared: true, Text: text("create f1;\n")}, {ID: "f2", File: "f.sql", Shared: true,
			Text: text("create f2;\n")}}, same, nil, nothing)
	if string(out["a.sql"]) != "-- note\ncreate a anew;\n\ncreate b;\n" {
		t.Errorf("a.sql becomes %q", out["a.sql"])
	}
	if data, ok := out["c.sql"]; !ok || data != nil {
		t.Errorf("c.sql becomes %q", data)
	}
	if string(out["f.sql"]) != "create f1;\n\ncreate f2;\n" || len(out) != 4 {
		t.Errorf("written: %q", out)
	}
	for name := range out {
		if name != "a.sql" && name != "c.sql" && name != "f.sql" && (!strings.HasPrefix(name, "c%") || string(out[name]) != "create d;\n") {
			t.Errorf("%s: %q", name, out[name])
		}
	}
}

func TestAnObjectJoinsAFileThatIsShared(t *testing.T) {
	files := Files{"f.sql": []byte("create f1;\n")}
	out := Update(nil, files, map[string][]Place{"f1": {{File: "f.sql", From: 0, To: 10}}},
		[]Object{{ID: "f1", File: "f.sql", Shared: true, Text: text("create f1;\n")},
			{ID: "f2", File: "f.sql", Shared: true, Text: text("create f2;\n")}},
		func(id string) bool { return id == "f1" }, nil, nothing)
	if !maps.EqualFunc(out, Files{"f.sql": []byte("create f1;\n\ncreate f2;\n")},
		func(a, b []byte) bool { return string(a) == string(b) }) {
		t.Errorf("written: %q", out)
	}
}

func TestFormerNames(t *testing.T) {
	for comment, want := range map[string]string{"-- formerly: basin": "basin", "/* Formerly: \"old name\" */": "old name",
		"-- formerly known": "", "-- nothing": ""} {
		if got, ok := Formerly(comment); got != want || ok != (want != "") {
			t.Errorf("%q says %q, %v", comment, got, ok)
		}
	}
	if err := (&FileError{File: "a.sql", Line: 3, Err: errText("what")}); err.Error() != "a.sql, line 3: what" {
		t.Error(err)
	}
}

type errText string

func (e errText) Error() string { return string(e) }
