package cli

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"oakenchest/core/element"
)

func settling() *settler {
	p := &settler{app: &App{}, width: 60, height: 20}
	value := func(s string) element.Side { return element.Side{Value: element.TextValue(s)} }
	for i := range 9 {
		c := element.Conflict{Address: element.Address{Path: fmt.Sprintf("notes/%d.txt", i)}, Base: value("before"),
			Mine: value("one\ntwo\nthree"), Theirs: value("other"),
			Allows: []element.Keep{element.KeepMine, element.KeepTheirs, element.KeepBase, element.KeepValue}}
		if i == 1 {
			c.Allows = append(c.Allows, element.KeepBoth)
		}
		p.conflicts = append(p.conflicts, c)
	}
	p.keep = make([]element.Keep, len(p.conflicts))
	return p
}

func hit(p *settler, keys ...tea.KeyPressMsg) {
	for _, k := range keys {
		p.Update(k)
	}
}

func TestSidesAreChosenByKeys(t *testing.T) {
	p := settling()
	plus := tea.KeyPressMsg{Code: '+', Text: "+"}
	hit(p, key(tea.KeyLeft), key(tea.KeyDown), plus, key(tea.KeyDown), plus, key(tea.KeyDown), key(tea.KeyRight), key(tea.KeyDown),
		key(tea.KeySpace), key(tea.KeySpace), key(tea.KeySpace))
	for i, want := range []element.Keep{element.KeepMine, element.KeepBoth, "", element.KeepTheirs, element.KeepBase, ""} {
		if p.keep[i] != want {
			t.Errorf("conflict %d keeps %q, want %q", i, p.keep[i], want)
		}
	}
	hit(p, key(tea.KeySpace), key(tea.KeyHome), key(tea.KeyDown), key(tea.KeyTab)) // both is allowed for one alone
	if p.keep[1] != element.KeepBoth || p.keep[0] != element.KeepMine || p.keep[4] != "" {
		t.Errorf("all like the second: %v", p.keep)
	}
	hit(p, key(tea.KeyEnd), key(tea.KeyRight), key(tea.KeyTab))
	for i, k := range p.keep {
		if k != element.KeepTheirs {
			t.Errorf("conflict %d is not like the last: %q", i, k)
		}
	}
	hit(p, key(tea.KeyPgUp), key(tea.KeyDelete))
	if p.at == 8 || p.keep[p.at] != "" {
		t.Errorf("at %d: %q", p.at, p.keep[p.at])
	}
	hit(p, key(tea.KeyPgDown), key(tea.KeyUp), key(tea.KeyEnter))
	if !p.done || p.text() != "" {
		t.Error("enter does not end it")
	}
	q := settling()
	if hit(q, key(tea.KeyEsc)); !q.left || q.done {
		t.Error("esc does not leave it")
	}
}

func TestBothSidesAreShown(t *testing.T) {
	p := settling()
	p.Update(tea.WindowSizeMsg{Width: 60, Height: 18})
	hit(p, key(tea.KeyEnd), key(tea.KeyRight))
	view := p.text()
	for _, want := range []string{"9 conflicts, 8 still open", "notes/8.txt", "mine    one", "two …", "theirs  other",
		"before  before", "theirs"} {
		if !strings.Contains(view, want) {
			t.Errorf("the view lacks %q:\n%s", want, view)
		}
	}
	if n := strings.Count(view, "\n"); n > 18 {
		t.Errorf("the view has %d lines of 18", n)
	}
	if strings.Contains(view, "notes/0.txt") {
		t.Error("the list does not scroll")
	}
}
