package state

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind/all"
	"oakenchest/core/manifest"
)

func reader() *Reader {
	return &Reader{Kinds: all.Table(), Manifest: &manifest.Manifest{Artifacts: []manifest.Artifact{{Path: "database", Kind: "schema"}}}}
}

func memory(pairs ...string) Memory {
	m := Memory{Name: "x", Contents: map[string][]byte{}}
	for i := 0; i < len(pairs); i += 2 {
		m.Contents[pairs[i]] = []byte(pairs[i+1])
	}
	return m
}

func compare(t *testing.T, a, b State, paths ...string) string {
	t.Helper()
	diffs, err := reader().Compare(t.Context(), a, b, paths)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, d := range diffs {
		if d.Quiet {
			out = append(out, d.Path+" quiet")
		}
		for _, c := range d.Changes {
			out = append(out, fmt.Sprint(d.Kind, " ", c.Kind, " ", c.Address, " ", c.From, " → ", c.To))
		}
	}
	return strings.Join(out, "\n")
}

const tank = "create table tank (id integer primary key, name text);"

func TestCompareSpeaksInElements(t *testing.T) {
	from := memory("database/tables/tank.sql", tank, "a.txt", "one\n", "b.bin", "\x00\x01", "old.json", `{"a":1}`, "same.xml",
		"<a>  <b/></a>", "broken.xml", "<a>")
	to := memory("database/tables/tank.sql", "create table tank (id integer primary key, name text, litres real not null);", "a.txt",
		"one!\n", "b.bin", "\x00\x02", "new.json", `{"a":1}`,
		"same.xml", "<a> <b/></a>", "broken.xml", "<b>", "fresh.txt", "x")
	want := `text edited a.txt::line:#1.text one → one!
opaque edited b.bin 2 B b413f47d → 2 B b1fc78d8
text edited broken.xml::line:#1.text <a> → <b>
schema added database::table:tank/column:litres (none) → (none)
text added fresh.txt (none) → (none)
json moved new.json old.json → new.json
same.xml quiet`
	got := compare(t, from, to)
	for line := range strings.SplitSeq(want, "\n") {
		if fields := strings.Fields(line); !strings.Contains(got, strings.Join(fields[:min(3, len(fields))], " ")) {
			t.Errorf("missing: %s", line)
		}
	}
	if n := strings.Count(got, "\n"); n != strings.Count(want, "\n") {
		t.Errorf("got\n%s", got)
	}
	if got := compare(t, from, to, "a.txt"); got != "text edited a.txt::line:#1.text one → one!" {
		t.Errorf("one path: %s", got)
	}
	if got := compare(t, from, from); got != "" {
		t.Errorf("equal states: %s", got)
	}
}

// merged carries the edits of a merge out on mine.
func merged(t *testing.T, base, mine, theirs Memory, settle element.Settle) (Memory, []string) {
	t.Helper()
	return mergedBy(t, reader(), base, mine, theirs, settle)
}

func mergedBy(t *testing.T, by *Reader, base, mine, theirs Memory, settle element.Settle) (Memory, []string) {
	t.Helper()
	r, err := by.Merge(context.Background(), base, mine, theirs, settle)
	if err != nil {
		t.Fatal(err)
	}
	out := memory()
	for p, data := range mine.Contents {
		out.Contents[p] = data
	}
	for _, e := range r.Edits {
		switch {
		case e.Gone:
			delete(out.Contents, e.Path)
		case e.Take.Mode != 0:
			for _, m := range []Memory{base, mine, theirs} {
				for _, data := range m.Contents {
					if element.DigestOf(data) == e.Take.Digest {
						out.Contents[e.Path] = data
					}
				}
			}
		default:
			out.Contents[e.Path] = e.Data
		}
	}
	var conflicts []string
	for _, c := range r.Conflicts {
		conflicts = append(conflicts, c.Address.String())
	}
	return out, conflicts
}

func TestMergeByArtifact(t *testing.T) {
	keep := func(k element.Keep) element.Settle {
		return func(element.Conflict) (element.Choice, bool) { return element.Choice{Keep: k}, true }
	}
	add := func(col string) string {
		return "create table tank (\n  id integer primary key,\n  name text,\n  " + col + "\n);\n"
	}
	for name, c := range map[string]struct {
		base, mine, theirs, want Memory
		settle                   element.Settle
		conflicts                string
	}{
		"one side each": {memory("a", "1", "b", "1"), memory("a", "2", "b", "1"), memory("a", "1", "b", "2", "c", "new"),
			memory("a", "2", "b", "2", "c", "new"), nil, ""},
		"two columns": {memory("database/t.sql", tank), memory("database/t.sql", add("litres real")),
			memory("database/t.sql", add("depth_m real")), memory("database/t.sql", add("litres real,\n  depth_m real")), nil, ""},
		"objects in two files": {memory("database/t.sql", tank), memory("database/t.sql", add("litres real")),
			memory("database/t.sql", tank, "database/views/v.sql", "create view v as select 1;"), memory("database/t.sql",
				add("litres real"), "database/views/v.sql", "create view v as select 1;"), nil, ""},
		"a column twice": {memory("database/t.sql", tank), memory("database/t.sql", add("litres real")),
			memory("database/t.sql", add("litres int")), memory("database/t.sql", add("litres real")), nil,
			"database::table:tank/column:litres.type"},
		"opaque twice": {memory("b.bin", "\x00"), memory("b.bin", "\x01"), memory("b.bin", "\x02"), memory("b.bin", "\x01"),
			nil, "b.bin"},
		"opaque, theirs": {memory("b.bin", "\x00"), memory("b.bin", "\x01"), memory("b.bin", "\x02"), memory("b.bin", "\x02"),
			keep(element.KeepTheirs), ""},
		"opaque, both": {memory("b.bin", "\x00"), memory("b.bin", "\x01"), memory("b.bin", "\x02"),
			memory("b.bin", "\x01", "b (theirs).bin", "\x02"), keep(element.KeepBoth), ""},
		"deleted and edited":    {memory("a", "1\n"), memory(), memory("a", "2\n"), memory(), nil, "a"},
		"edited and deleted":    {memory("a", "1\n"), memory("a", "2\n"), memory(), memory("a", "2\n"), nil, "a"},
		"deleted, theirs stays": {memory("a", "1\n"), memory(), memory("a", "2\n"), memory("a", "2\n"), keep(element.KeepTheirs), ""},
		"both deleted":          {memory("a", "1\n"), memory(), memory(), memory(), nil, ""},
		"both added alike":      {memory(), memory("a", "1\n"), memory("a", "1\n"), memory("a", "1\n"), nil, ""},
		"both added json": {memory(), memory("a.json", `{"x":1}`), memory("a.json", `{"y":2}`),
			memory("a.json", `{"x":1,"y":2}`), nil, ""},
		"mine moved":          {memory("a", "reef"), memory("b", "reef"), memory("a", "reef!"), memory("b", "reef!"), nil, ""},
		"theirs moved":        {memory("a", "reef"), memory("a", "reef!"), memory("b", "reef"), memory("b", "reef!"), nil, ""},
		"file against folder": {memory(), memory("x", "1\n"), memory("x/y", "2\n"), memory("x", "1\n"), nil, "x"},
		"folder, theirs":      {memory(), memory("x", "1\n"), memory("x/y", "2\n"), memory("x/y", "2\n"), keep(element.KeepTheirs), ""},
		"unreadable": {memory("a.xml", "<a>"), memory("a.xml", "<b>"), memory("a.xml", "<c>"), memory("a.xml", "<b>"),
			nil, "a.xml"},
	} {
		got, conflicts := merged(t, c.base, c.mine, c.theirs, c.settle)
		if fmt.Sprintf("%q", got.Contents) != fmt.Sprintf("%q", c.want.Contents) || strings.Join(conflicts, " ") != c.conflicts {
			t.Errorf("%s: got %q with %v", name, got.Contents, conflicts)
		}
	}
}

func TestAMergedSceneKeepsItsBuffers(t *testing.T) {
	gltf := `{"asset":{"version":"2.0"},"nodes":[{"name":"A","mesh":0%s}],"meshes":[{"name":"M","primitives":[{"attributes":{"POSITION":0}}]}],` +
		`"accessors":[{"bufferView":0,"componentType":5121,"count":4,"type":"SCALAR"}],"bufferViews":[{"buffer":0,"byteOffset":%d,"byteLength":4}],"buffers":[{"byteLength":8,"uri":"s.bin"}]}`
	base := memory("s.gltf", fmt.Sprintf(gltf, "", 0), "s.bin", "aaaabbbb")
	mine := memory("s.gltf", fmt.Sprintf(gltf, `,"translation":[1,0,0]`, 0), "s.bin", "aaaabbbb")
	theirs := memory("s.gltf", fmt.Sprintf(gltf, "", 4), "s.bin", "0000cccc") // exported again with another layout
	got, conflicts := merged(t, base, mine, theirs, nil)
	if len(conflicts) > 0 {
		t.Fatal(conflicts)
	}
	want := memory("s.gltf", fmt.Sprintf(gltf, `,"translation":[1,0,0]`, 4), "s.bin", "0000cccc")
	if left := compare(t, got, want, "s.gltf"); left != "" && !strings.HasSuffix(left, "quiet") {
		t.Errorf("still differs: %s\n%s", left, got.Contents["s.gltf"])
	}
}
