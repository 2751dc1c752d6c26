package cli

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/pipeline"
)

func picking() *picker {
	p := &picker{app: &App{}, environment: "test"}
	for _, name := range []string{"table:tank", "table:feeding",
		"view:a-rather-long-name-that-no-terminal-has-room-for-beside-all-the-rest-of-it", "view:small"} {
		p.objects = append(p.objects, pipeline.Settled{Address: name, Chest: pipeline.Edited, Environment: pipeline.AsDeployed,
			Direction: pipeline.Leave})
	}
	p.objects[0].Changes = []element.Change{{Kind: element.Edited,
		Address: element.Address{Steps: []element.Step{{Type: "column", Key: "depth"}}, Property: "type"}, From: element.TextValue("int"),
		To: element.TextValue("bigint")}}
	return p
}

func press(c *screen.Choice, keys ...tea.KeyPressMsg) {
	for _, k := range keys {
		c.Update(k)
	}
}

func key(k rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: k} }

func TestDirectionsAreChosenByKeys(t *testing.T) {
	p := picking()
	c := p.choice().On(&p.app.Screen, 90, 24)
	press(c, key(tea.KeyRight), key(tea.KeyDown), key(tea.KeyLeft), key(tea.KeyDown), key(tea.KeySpace), key(tea.KeyDown), key(tea.KeyDown),
		key(tea.KeyDown))
	want := []pipeline.Direction{pipeline.ToEnvironment, pipeline.ToChest, pipeline.ToChest, pipeline.Leave}
	for i, o := range p.objects {
		if o.Direction != want[i] {
			t.Errorf("%s goes %s, not %s", o.Address, o.Direction, want[i])
		}
	}
	press(c, key(tea.KeyHome), key(tea.KeyTab))
	for _, o := range p.objects {
		if o.Direction != pipeline.ToEnvironment {
			t.Errorf("%s is not like the first: %s", o.Address, o.Direction)
		}
	}
	press(c, key(tea.KeyDelete), key(tea.KeyEnd), key(tea.KeyUp))
	if p.objects[0].Direction != pipeline.Leave || c.At() != 2 || c.Done || c.Left {
		t.Errorf("at %d of %v", c.At(), p.objects)
	}
	for _, r := range "/view:small" { // what is looked for by its name
		press(c, tea.KeyPressMsg{Code: r, Text: string(r)})
	}
	press(c, key(tea.KeyEnter))
	if c.Done {
		t.Error("enter in a search ends it")
	}
	press(c, key(tea.KeyEnter))
	if !c.Done || c.Text() != "" {
		t.Error("enter does not end it")
	}
	q := picking().choice().On(&screen.Screen{}, 90, 24)
	press(q, key(tea.KeyEsc))
	if q.Done || !q.Left {
		t.Error("esc carries it out")
	}
}

func TestThePickerFitsTheTerminal(t *testing.T) {
	p := picking()
	view := p.choice().On(&p.app.Screen, 90, 24).Text()
	for _, want := range []string{"test and the workspace differ in 4 objects", "▸ table:tank", "column:depth.type  int → bigint", "leave",
		"enter carry out"} {
		if !strings.Contains(view, want) {
			t.Errorf("%q is not in\n%s", want, view)
		}
	}
	for range 40 {
		p.objects = append(p.objects, pipeline.Settled{Address: "view:more", Chest: pipeline.Missing, Environment: pipeline.New,
			Direction: pipeline.ToChest})
	}
	c := p.choice().On(&p.app.Screen, 90, 24)
	c.Update(tea.WindowSizeMsg{Width: 60, Height: 20})
	press(c, key(tea.KeyEnd))
	view = c.Text()
	if n := strings.Count(view, "\n"); n > 20 || !strings.Contains(view, "▸ view:more") || !strings.Contains(view, "only test has it") {
		t.Errorf("%d lines:\n%s", n, view)
	}
	press(c, key(tea.KeyPgUp))
	if at := c.At(); at >= len(p.objects)-1 || at < 0 {
		t.Errorf("a page up is at %d of %d", at, len(p.objects))
	}
}
