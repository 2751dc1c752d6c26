package cli

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
)

func settling() *settler {
	p := &settler{app: &App{}}
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

func TestSidesAreChosenByKeys(t *testing.T) {
	p := settling()
	c := p.choice().On(&p.app.Screen, 60, 24)
	plus := tea.KeyPressMsg{Code: '+', Text: "+"}
	press(c, key(tea.KeyLeft), key(tea.KeyDown), plus, key(tea.KeyDown), plus, key(tea.KeyDown), key(tea.KeyRight), key(tea.KeyDown),
		key(tea.KeySpace), key(tea.KeySpace), key(tea.KeySpace))
	for i, want := range []element.Keep{element.KeepMine, element.KeepBoth, "", element.KeepTheirs, element.KeepBase, ""} {
		if p.keep[i] != want {
			t.Errorf("conflict %d keeps %q, want %q", i, p.keep[i], want)
		}
	}
	press(c, key(tea.KeySpace), key(tea.KeyHome), key(tea.KeyDown), key(tea.KeyTab)) // both is allowed for one alone
	if p.keep[1] != element.KeepBoth || p.keep[0] != element.KeepMine || p.keep[4] != "" {
		t.Errorf("all like the second: %v", p.keep)
	}
	press(c, key(tea.KeyEnd), key(tea.KeyRight), key(tea.KeyTab))
	for i, k := range p.keep {
		if k != element.KeepTheirs {
			t.Errorf("conflict %d is not like the last: %q", i, k)
		}
	}
	press(c, key(tea.KeyUp), key(tea.KeyDelete))
	if at := c.At(); at != 7 || p.keep[at] != "" {
		t.Errorf("at %d: %q", at, p.keep)
	}
	press(c, key(tea.KeyPgDown), key(tea.KeyUp), key(tea.KeyEnter))
	if !c.Done || c.Text() != "" {
		t.Error("enter does not end it")
	}
	q := settling().choice().On(&screen.Screen{}, 60, 24)
	if press(q, key(tea.KeyEsc)); !q.Left || q.Done {
		t.Error("esc does not leave it")
	}
}

func TestBothSidesAreShown(t *testing.T) {
	p := settling()
	c := p.choice().On(&p.app.Screen, 60, 24)
	c.Update(tea.WindowSizeMsg{Width: 60, Height: 18})
	press(c, key(tea.KeyEnd), key(tea.KeyRight))
	view := c.Text()
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
