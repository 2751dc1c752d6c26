package state

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
)

// texts gives what is shown line by line of one artifact, in two versions.
func texts(t *testing.T, name, was, is string) []TextPair {
	t.Helper()
	r, from, to := reader(), memory(name, was), memory(name, is)
	diffs, err := r.Compare(t.Context(), from, to, nil)
	if err != nil || len(diffs) != 1 {
		t.Fatalf("%v, %v", diffs, err)
	}
	a, b, err := r.Versions(t.Context(), from, to, diffs[0])
	if err != nil {
		t.Fatal(err)
	}
	return Texts(a, b)
}

func TestTextsAreThoseOfTheArtifactOrOfWhatIsInIt(t *testing.T) {
	if got := texts(t, "a.txt", "one\n", "two\n"); len(got) != 1 || got[0].Was != "one\n" || got[0].Is != "two\n" || got[0].LaidOut {
		t.Errorf("a text: %v", got)
	}
	if got := texts(t, "a.txt", "F\xfcr alle\n", "F\xfcr uns\n"); len(got) != 1 || got[0].Is != "Für uns\n" {
		t.Errorf("a text in another encoding: %v", got)
	}
	long := `{"columns":[{"id":"tank","width":120},{"id":"food","width":160},{"id":"fed_at","width":110}],"title":"Feeding log of the week","query":"select everything from feeding where it was this week"}`
	if got := texts(t, "a.json", long, strings.Replace(long, "120", "140", 1)); len(got) != 1 || !got[0].LaidOut ||
		strings.Count(got[0].Is, "\n") < 5 {
		t.Errorf("JSON on one line: %v", got)
	}
	if got := texts(t, "a.bin", "\x00one", "\x00two"); len(got) != 0 {
		t.Errorf("bytes: %v", got)
	}
}

func TestEncodedContentIsShownByItselfAlone(t *testing.T) {
	app := func(label, title string) string {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		layout := base64.StdEncoding.EncodeToString([]byte(`{"columns": [{"id": "tank"}], "title": "` + title + `"}`))
		for _, e := range [][2]string{{"form.xml", "<form>\n<field label=\"" + label + "\"/>\n</form>\n"},
			{"report.xml", "<report>\n<layout>" + layout + "</layout>\n</report>\n"}} {
			out, err := w.Create(e[0])
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprint(out, e[1])
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	got := texts(t, "rounds.app", app("Tank", "Feeding log"), app("Tank", "Feeding plan"))
	if len(got) != 1 || !strings.Contains(got[0].Address.String(), "embedded:text") || !strings.Contains(got[0].Is, "plan") {
		t.Errorf("the layout changed: %v", got)
	}
	got = texts(t, "rounds.app", app("Tank", "Feeding log"), app("Pool", "Feeding log"))
	if len(got) != 1 || got[0].Address.String() != `rounds.app::part:"form.xml"` {
		t.Errorf("the form changed: %v", got)
	}
}
