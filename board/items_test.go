package board

import (
	"strings"
	"testing"
	"time"

	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/pipeline"
)

func TestThePictureIsPlain(t *testing.T) {
	o := overview(t, 3)
	var b strings.Builder
	if err := Plain(&b, o); err != nil {
		t.Fatal(err)
	}
	picture := b.String()
	for _, no := range []string{"class=", "var(", "<style", "@media", "<b>"} {
		if strings.Contains(picture, no) {
			t.Errorf("the picture has %s", no)
		}
	}
	for tag := range strings.SplitSeq(picture, "<text ") {
		if strings.HasPrefix(tag, "x=") && !strings.Contains(tag[:strings.IndexByte(tag, '>')], "fill=") {
			t.Errorf("a text has no colour: %s", tag[:strings.IndexByte(tag, '>')])
		}
	}
	for _, want := range []string{`<svg xmlns="http://www.w3.org/2000/svg"`, `font-weight="bold"`, `stroke="#0b6070"`,
		"Brindle &lt;Bay&gt;"} {
		if !strings.Contains(picture, want) {
			t.Errorf("the picture lacks %s", want)
		}
	}
}

func TestItemsAreDrawn(t *testing.T) {
	day := time.Date(2026, 6, 9, 15, 0, 0, 0, time.UTC)
	v := &pipeline.ItemsView{Project: "Bay", At: day, Environments: []manifest.Environment{{Name: "dev"}, {Name: "live <1>"}},
		Items: []pipeline.ItemView{{Key: "AQ-<1>", Work: []ledger.Commit{{Message: "First"}, {Message: "A <b>lamp</b>\nmore"}},
			Cells: []pipeline.ItemCell{{State: pipeline.ItemThere, Since: day, Has: 2}, {State: pipeline.ItemPartly, Has: 1}}}}}
	var b strings.Builder
	if err := Items(&b, v); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"AQ-&lt;1&gt;", "A &lt;b&gt;lamp&lt;/b&gt;", "live &lt;1&gt;", "1 of 2", "9 Jun", "and 1 more"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("the page lacks %s", want)
		}
	}
	for state, want := range map[pipeline.ItemState]string{pipeline.ItemThere: "9 Jun 2026", pipeline.ItemWaits: "waits",
		pipeline.ItemOwed:      "owed",
		pipeline.ItemTakenBack: "taken back", pipeline.ItemAbsent: ""} {
		if got := CellText(pipeline.ItemCell{State: state, Since: day}, 1, day.AddDate(1, 0, 0)); got != want {
			t.Errorf("%q is written %q", state, got)
		}
	}
}
