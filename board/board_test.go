package board

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/owed"
	"oakenchest/core/pipeline"
)

// overview makes a landscape of so many lanes, each with two environments, and three that
// they share.
func overview(t *testing.T, lanes int) *pipeline.Overview {
	t.Helper()
	m := &manifest.Manifest{Project: "Brindle <Bay>"}
	now := time.Date(2026, 6, 9, 15, 0, 0, 0, time.UTC)
	o := &pipeline.Overview{Project: m.Project, At: now,
		Findings: []landscape.Finding{{Where: "x", What: "Something is wrong.", Do: "Mend it.", Grave: true}}}
	commit := ledger.Commit{ID: ledger.ID{1}, Branch: "main", Depth: 7, Message: "A <b>large</b> lamp\nmore", Item: "AQ-1", Author: "Imke"}
	add := func(name string, tier manifest.Tier, lane string) {
		m.Environments = append(m.Environments, manifest.Environment{Name: name, Tier: tier, Lane: lane})
		o.Stages = append(o.Stages, pipeline.StageView{Environment: m.Environments[len(m.Environments)-1], Has: &commit,
			When: now, By: "R & I"})
	}
	move := func(from, to string) {
		m.Pipeline.Moves = append(m.Pipeline.Moves, manifest.Move{From: from, To: to})
		o.Moves = append(o.Moves, pipeline.MoveView{Move: manifest.Move{From: from, To: to}, Waiting: 3})
	}
	for i := range lanes {
		lane := fmt.Sprintf("Lane %d", i)
		m.Pipeline.Lanes = append(m.Pipeline.Lanes, manifest.Lane{Name: lane, Developers: []string{"Imke", "Tarek"},
			About: "A team with rather a long purpose, which is told in many words"})
		add(lane+" dev", manifest.Development, lane)
		add(lane+" int", manifest.Integration, lane)
		move(lane+" dev", lane+" int")
		move(lane+" int", "test")
		move(lane+" dev", "live")
	}
	add("test", "test", "")
	add("acceptance", "acceptance", "")
	add("live", "live", "")
	move("test", "acceptance")
	move("acceptance", "live")
	o.Landscape = landscape.Of(m)
	column := o.Landscape.Column()
	for i := range o.Stages {
		o.Stages[i].Column = column[o.Stages[i].Name]
	}
	s := &o.Stages[0]
	s.Owed = []owed.Work{{Commit: commit, Where: "live", Since: now.Add(-72 * time.Hour)}}
	s.Waiting = []ledger.Commit{commit}
	s.Drift = &ledger.Look{Time: now, Differences: 2}
	s.Bookings = []landscape.Slot{{Booking: ledger.Booking{Lane: "Lane 0", Person: "Tarek"}, From: now.Add(-time.Hour),
		Until: now.Add(time.Hour)}}
	s.Freeze = &manifest.Freeze{Why: "the jubilee"}
	o.Stages[1].Has, o.Stages[1].Drift = nil, &ledger.Look{Time: now, Failure: "The server does not answer."}
	return o
}

// wellFormed reads a picture to its end.
func wellFormed(t *testing.T, text string) {
	t.Helper()
	for dec := xml.NewDecoder(strings.NewReader(text)); ; {
		_, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatalf("the picture is no XML: %v", err)
		}
	}
}

func TestNothingStandsInAnothersPlace(t *testing.T) {
	for _, lanes := range []int{0, 1, 3, 14} {
		o := overview(t, lanes+1)
		l := place(o)
		for i, a := range l.Boxes {
			if a.X+boxWidth > l.Width || a.Y+boxHeight > l.Height || a.X < labelWidth {
				t.Errorf("%d lanes: %s stands outside", lanes, a.Name)
			}
			for _, b := range l.Boxes[:i] {
				if a.X < b.X+boxWidth && b.X < a.X+boxWidth && a.Y < b.Y+boxHeight && b.Y < a.Y+boxHeight {
					t.Errorf("%d lanes: %s and %s stand in one place", lanes, a.Name, b.Name)
				}
			}
		}
		for i, a := range l.Bands {
			for _, b := range l.Bands[:i] {
				if a.Y < b.Y+b.Height && b.Y < a.Y+a.Height {
					t.Errorf("%d lanes: the bands %q and %q meet", lanes, a.Name, b.Name)
				}
			}
		}
		var b strings.Builder
		if err := SVG(&b, o); err != nil {
			t.Fatal(err)
		}
		wellFormed(t, b.String())
		for _, want := range []string{"Brindle &lt;Bay&gt;", "R &amp; I", "2 changed by hand", "unfinished"} {
			if has := strings.Contains(b.String(), want); has != (want != "unfinished") {
				t.Errorf("%q in the picture: %v", want, has)
			}
		}
	}
}

func TestThePageSaysEverything(t *testing.T) {
	o := overview(t, 2)
	var b strings.Builder
	if err := Page(&b, &Board{Overview: o, Recent: []pipeline.Record{{}}}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Brindle &lt;Bay&gt;: the pipeline", "A &lt;b&gt;large&lt;/b&gt; lamp", "3 days", "the jubilee",
		"The server does not answer.", "Something is wrong.", "Lane 0, 2026", "nothing deployed yet", "<b>7</b> environments"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	if strings.Contains(b.String(), "<b>large") {
		t.Error("a message is not escaped")
	}
}
