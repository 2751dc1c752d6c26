package page

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind/all"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/sample"
)

// drawn compares two sets of files and gives their page.
func drawn(t *testing.T, from, to map[string][]byte) string {
	t.Helper()
	r := &state.Reader{Kinds: all.Table(), Manifest: &manifest.Manifest{}}
	a, b := state.Memory{Name: "before", Contents: from}, state.Memory{Name: "after", Contents: to}
	diffs, err := r.Compare(t.Context(), a, b, nil)
	if err != nil {
		t.Fatal(err)
	}
	p := New(a.Label(), b.Label())
	for _, d := range diffs {
		was, is, err := r.Versions(t.Context(), a, b, d)
		if err != nil {
			t.Fatal(err)
		}
		p.Add(Artifact{Difference: d, Was: was, Is: is})
	}
	var out bytes.Buffer
	if err := p.Write(&out); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func files(pairs ...string) map[string][]byte {
	out := map[string][]byte{}
	for i := 0; i < len(pairs); i += 2 {
		out[pairs[i]] = []byte(pairs[i+1])
	}
	return out
}

func want(t *testing.T, html string, parts ...string) {
	t.Helper()
	for _, p := range parts {
		if !strings.Contains(html, p) {
			t.Errorf("the page lacks %s", p)
		}
	}
}

func TestWhatCameWentAndMovedIsSaidInAWord(t *testing.T) {
	html := drawn(t, files("gone.json", `{"a":1}`, "old.bin", "\x00moved bytes"),
		files("new.json", `{"b":[{"id":1}]}`, "fresh.bin", "\x00moved bytes"))
	want(t, html, `<span class="word added">added</span>`, `<span class="word removed">removed</span>`,
		`<span class="word moved">moved</span>`, "It was old.bin before.", "3 artifacts differ")
	if html := drawn(t, files("a", "x"), files("a", "x")); !strings.Contains(html, "The two are alike.") {
		t.Error("nothing is said when nothing differs")
	}
}

func TestHostileNamesAndValuesStayText(t *testing.T) {
	evil := `"><script>alert(1)</script>`
	html := drawn(t, files("x.json", fmt.Sprintf(`{"a": %q}`, "one"), "<img src=x>.txt", "a\n"),
		files("x.json", fmt.Sprintf(`{"a": %q, %q: 1}`, evil, evil), "<img src=x>.txt", evil+"\n"))
	if strings.Count(html, "<script>") != 1 || strings.Contains(html, "<img src=x>") {
		t.Error("something of an artifact became a part of the page")
	}
	want(t, html, "&lt;img src=x&gt;.txt")
}

func TestPicturesOfTwoSizesAndSoundsThatCameAreShown(t *testing.T) {
	html := drawn(t, files("a.png", string(sample.SandPNG(16))),
		files("a.png", string(sample.SandPNG(24)), "b.wav", string(sample.BubblesWAV())))
	want(t, html, "16 × 16", "24 × 24", "The two are of different sizes.", `class="wave-is"`, "audio/wave;base64,")
	if strings.Contains(html, `class="pane diff"`) || strings.Contains(html, `class="wave-was"`) {
		t.Error("something is shown that is not there")
	}
}

func TestLongListsAreCutShort(t *testing.T) {
	var from, to strings.Builder
	from.WriteString("{")
	to.WriteString("{")
	for i := range mostChanges + 50 {
		fmt.Fprintf(&from, `"k%d": 1,`, i)
		fmt.Fprintf(&to, `"k%d": 2,`, i)
	}
	html := drawn(t, files("a.json", from.String()+`"z": "`+strings.Repeat("long ", 1000)+`"}`),
		files("a.json", to.String()+`"z": "`+strings.Repeat("longer ", 1000)+`"}`))
	want(t, html, "and 51 more", "1051 changes")
}

func TestAPageHoldsSoMuchMediaAndNoMore(t *testing.T) {
	p := New("a", "b")
	p.left = 10
	if p.embed("x/y", []byte("twelve bytes")) != "" || p.embed("x/y", []byte("few")) == "" || p.left != 7 {
		t.Error("the bound is not kept")
	}
}

func TestScenesShowTheirNodes(t *testing.T) {
	one, err := sample.Reef(sample.Lamp{Scale: 1, Brightness: 40})
	if err != nil {
		t.Fatal(err)
	}
	two, err := sample.Reef(sample.Lamp{Scale: 1.5, Brightness: 40})
	if err != nil {
		t.Fatal(err)
	}
	html := drawn(t, map[string][]byte{"reef.glb": one}, map[string][]byte{"reef.glb": two})
	want(t, html, "Nodes of the scene (4 as before)", `<mark>1.5 1.5 1.5</mark>`, "0°")
}

func TestMarksCutTextIntoPieces(t *testing.T) {
	for _, c := range []struct {
		text  string
		marks [][2]int
		want  string
	}{{"abcdef", [][2]int{{2, 4}}, "ab[cd]ef"}, {"abc", [][2]int{{0, 3}}, "abc"}, {"abc", nil, "abc"},
		{"abcd", [][2]int{{0, 1}, {3, 4}}, "[a]bc[d]"}} {
		var b strings.Builder
		for _, p := range pieces(c.text, c.marks) {
			if p.Marked {
				p.Text = "[" + p.Text + "]"
			}
			b.WriteString(p.Text)
		}
		if b.String() != c.want {
			t.Errorf("%s: %s", c.text, b.String())
		}
	}
}

func TestKindsWithoutMediaAreToldApart(t *testing.T) {
	for want, data := range map[string][]byte{"image": sample.SandPNG(4), "audio": sample.BubblesWAV(), "": []byte("text")} {
		if got := sort(data); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if sort(nil, nil) != "" || bytesOf(nil) != nil || behind(nil, element.NullValue()) != nil {
		t.Error("nothing became something")
	}
	if k := kindOf(Artifact{Is: &state.Artifact{Kind: all.Table().Opaque()}}); k == nil || kindOf(Artifact{}) != nil {
		t.Error("kinds")
	}
}
