package pack

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsontree"
	"oakenchest/core/kind/opaque"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/kind/text"
	"oakenchest/core/kind/xmltree"
)

func testKind() Kind {
	t := recipe.Over(kind.NewTable(Kind{}, xmltree.Kind{}, jsontree.Kind{}, text.Kind{}, opaque.Kind{}), nil)
	k, _ := t.Named("package")
	return k.(Kind)
}

func zipped(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		out, err := w.Create(entries[i])
		if err == nil {
			_, err = out.Write([]byte(entries[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func source(data []byte) kind.FileSource { return kind.FileSource{Name: "rounds.app", Data: data} }

func tree(t *testing.T, data []byte) *kind.Reading {
	t.Helper()
	r, err := testKind().Read(source(data))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

const layout = `{"columns":[{"id":"tank","width":120},{"id":"amount","width":80}],"title":"Feeding log of the week"}`

func app(t testing.TB, label, json string) []byte {
	picture := "\x89PNG\r\n\x1a\n" + strings.Repeat("px", 30)
	return zipped(t, "mimetype", "application/x-rounds",
		"forms/round.xml", fmt.Sprintf("<form id=\"round\"><label name=\"title\">%s</label><icon>%s</icon><layout>%s</layout></form>",
			label, base64.StdEncoding.EncodeToString([]byte(picture)), base64.StdEncoding.EncodeToString([]byte(json))),
		"notes/a.txt", "one\ntwo\n", "empty/", "", "bin/x.bin", "\x00\x01\x02")
}

func TestChangesInsideThePackageAreNamed(t *testing.T) {
	before := tree(t, app(t, "Rounds", layout))
	after := tree(t, app(t, "Keepers' rounds", strings.Replace(layout, "120", "140", 1)))
	var got []string
	for _, c := range element.Compare(before.Root, after.Root).Changes("rounds.app") {
		got = append(got, fmt.Sprint(c.Kind, " ", c.Address, " ", c.From, " → ", c.To))
	}
	want := `edited rounds.app::part:"forms/round.xml"/form:round/label:title.text Rounds → Keepers' rounds
edited rounds.app::part:"forms/round.xml"/form:round/layout:#1/embedded:text/list:columns/item:tank.width 120 → 140`
	if s := strings.Join(got, "\n"); s != want {
		t.Errorf("got\n%s", s)
	}
}

func TestTwoEditsInsideOnePackageMerge(t *testing.T) {
	base, mine, theirs := app(t, "Rounds", layout), app(t, "My rounds", layout), app(t, "Rounds", strings.Replace(layout, "120", "140", 1))
	b, m, th := tree(t, base), tree(t, mine), tree(t, theirs)
	merged, conflicts := element.Merge("x", b.Root, m.Root, th.Root, nil)
	if len(conflicts) > 0 {
		t.Fatal(conflicts)
	}
	files, err := testKind().Write(source(mine), merged, kind.Contents(th.Content, b.Content))
	if err != nil {
		t.Fatal(err)
	}
	got := tree(t, files["rounds.app"])
	if want := tree(t, app(t, "My rounds", strings.Replace(layout, "120", "140", 1))); got.Root.Sum() != want.Root.Sum() {
		t.Errorf("got\n%s", got.Root.Dump())
	}
}

func TestPartsComeAndGo(t *testing.T) {
	from, to := zipped(t, "a.txt", "one", "b.xml", "<a/>"), zipped(t, "b.xml", "<a x='1'/>", "c.json", `{"k":1}`, "d/", "", "e.bin", "\x00")
	want := tree(t, to)
	files, err := testKind().Write(source(from), want.Root, want.Content)
	if err != nil {
		t.Fatal(err)
	}
	if got := tree(t, files["rounds.app"]); got.Root.Sum() != want.Root.Sum() {
		t.Errorf("got\n%s", got.Root.Dump())
	}
	if files, err := testKind().Write(source(from), tree(t, from).Root, nil); err != nil || files != nil {
		t.Error("writing an equal tree wrote something")
	}
}

func TestSplitAndJoinAreInverse(t *testing.T) {
	k := testKind()
	data := app(t, "Rounds", layout)
	parts, err := k.Split(source(data))
	if err != nil {
		t.Fatal(err)
	}
	byName := map[string]string{}
	for _, p := range parts {
		byName[p.Name] = string(p.Data)
	}
	if byName["parts/forms/round.xml.embedded/round-text.json"] != layout {
		t.Errorf("the layout did not become a file: %q", byName)
	}
	joined, err := k.Join(parts)
	if err != nil {
		t.Fatal(err)
	}
	if tree(t, joined).Root.Sum() != tree(t, data).Root.Sum() {
		t.Error("the joined package has another tree")
	}
	again, err := k.Split(source(joined))
	if err != nil || fmt.Sprint(again) != fmt.Sprint(parts) {
		t.Error("split of the joined package gives other parts")
	}
	if twice, _ := k.Join(again); !bytes.Equal(twice, joined) {
		t.Error("joining twice gives other bytes")
	}
	if _, err := k.Join(parts[:2]); err == nil || !strings.Contains(err.Error(), "missing") {
		t.Errorf("a missing part: %v", err)
	}
}

func TestHostileArchivesAreRefused(t *testing.T) {
	good := app(t, "x", layout)
	flipped := bytes.Clone(good)
	flipped[len("PK")+40] ^= 0xff
	for name, data := range map[string][]byte{
		"cut":     good[:len(good)-30],
		"twice":   zipped(t, "a", "1", "a", "2"),
		"rubbish": []byte("PK\x03\x04rubbish"),
		"flipped": flipped,
	} {
		if _, err := testKind().Read(source(data)); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
	inner := zipped(t, "a.txt", "x")
	for range 10 {
		inner = zipped(t, "in.zip", string(inner))
	}
	tree(t, inner)
}

func FuzzPackage(f *testing.F) {
	f.Add(app(f, "x", layout))
	f.Add(zipped(f, "a", "b"))
	f.Fuzz(func(t *testing.T, data []byte) {
		k := testKind()
		r, err := k.Read(source(data))
		if err != nil {
			return
		}
		if files, err := k.Write(source(data), r.Root, nil); err != nil || files != nil {
			t.Fatalf("an equal tree: %v", err)
		}
		parts, err := k.Split(source(data))
		if err != nil {
			t.Fatal(err)
		}
		joined, err := k.Join(parts)
		if err != nil {
			t.Fatal(err)
		}
		again, err := k.Read(source(joined))
		if err != nil || again.Root.Sum() != r.Root.Sum() {
			t.Fatalf("joined: %v", err)
		}
	})
}
