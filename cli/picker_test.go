package cli

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"oakenchest/core/element"
	"oakenchest/core/pipeline"
)

func picking() *picker {
	p := &picker{app: &App{}, environment: "test", width: 90, height: 24}
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

func press(p *picker, keys ...tea.KeyPressMsg) {
	for _, k := range keys {
		p.Update(k)
	}
}

func key(k rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: k} }

func TestDirectionsAreChosenByKeys(t *testing.T) {
	p := picking()
	press(p, key(tea.KeyRight), key(tea.KeyDown), key(tea.KeyLeft), key(tea.KeyDown), key(tea.KeySpace), key(tea.KeyDown), key(tea.KeyDown),
		key(tea.KeyDown))
	want := []pipeline.Direction{pipeline.ToEnvironment, pipeline.ToChest, pipeline.ToChest, pipeline.Leave}
	for i, o := range p.objects {
		if o.Direction != want[i] {
			t.Errorf("%s goes %s, not %s", o.Address, o.Direction, want[i])
		}
	}
	press(p, key(tea.KeyHome), key(tea.KeyTab))
	for _, o := range p.objects {
		if o.Direction != pipeline.ToEnvironment {
			t.Errorf("%s is not like the first: %s", o.Address, o.Direction)
		}
	}
	press(p, key(tea.KeyDelete), key(tea.KeyEnd), key(tea.KeyUp))
	if p.objects[0].Direction != pipeline.Leave || p.at != 2 || p.done || p.left {
		t.Errorf("at %d of %v", p.at, p.objects)
	}
	press(p, key(tea.KeyEnter))
	if !p.done || p.text() != "" {
		t.Error("enter does not end it")
	}
	q := picking()
	press(q, key(tea.KeyEsc))
	if q.done || !q.left {
		t.Error("esc carries it out")
	}
}

func TestThePickerFitsTheTerminal(t *testing.T) {
	p := picking()
	view := p.text()
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
	p.Update(tea.WindowSizeMsg{Width: 60, Height: 20})
	press(p, key(tea.KeyEnd))
	view = p.text()
	if n := strings.Count(view, "\n"); n > 20 || !strings.Contains(view, "▸ view:more") || !strings.Contains(view, "only test has it") {
		t.Errorf("%d lines:\n%s", n, view)
	}
	press(p, key(tea.KeyPgUp), key(tea.KeyPgUp), key(tea.KeyHome), key(tea.KeyPgDown))
	if p.at != p.room() {
		t.Errorf("a page down is at %d", p.at)
	}
}
