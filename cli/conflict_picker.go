package cli

import (
	"fmt"
	"io"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"oakenchest/core/element"
	"oakenchest/core/fault"
)

// settler lets a person choose a side for each conflict, on a terminal.
type settler struct {
	app       *App
	conflicts []element.Conflict
	keep      []element.Keep // empty where it is still open
	cursor
	width, height int
	done, left    bool
}

// Init asks for nothing.
func (p *settler) Init() tea.Cmd { return nil }

// Update takes a key or a new size.
func (p *settler) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		p.width, p.height = msg.Width, msg.Height
	case tea.KeyPressMsg:
		return p, p.key(msg.String())
	}
	p.scroll(p.room())
	return p, nil
}

func (p *settler) key(key string) tea.Cmd {
	if p.move(key, len(p.conflicts), p.room()) {
		return nil
	}
	switch key {
	case "left":
		p.choose(p.at, element.KeepMine)
	case "right":
		p.choose(p.at, element.KeepTheirs)
	case "+":
		p.choose(p.at, element.KeepBoth)
	case "delete", "backspace":
		p.keep[p.at] = ""
	case "space":
		p.next()
	case "tab": // all the others like this one, where they can be
		for i := range p.conflicts {
			if p.keep[p.at] == "" {
				p.keep[i] = ""
			}
			p.choose(i, p.keep[p.at])
		}
	case "enter":
		p.done = true
		return tea.Quit
	case "esc", "ctrl+c":
		p.left = true
		return tea.Quit
	}
	return nil
}

// choose keeps a side, where the conflict allows it.
func (p *settler) choose(i int, keep element.Keep) {
	for _, k := range p.conflicts[i].Allows {
		if k == keep && k != element.KeepValue {
			p.keep[i] = k
		}
	}
}

// next goes through what a conflict allows, and leaving it open.
func (p *settler) next() {
	choices := []element.Keep{""}
	for _, k := range p.conflicts[p.at].Allows {
		if k != element.KeepValue {
			choices = append(choices, k)
		}
	}
	for i, k := range choices {
		if k == p.keep[p.at] {
			p.keep[p.at] = choices[(i+1)%len(choices)]
			return
		}
	}
}

// sidesShown is how many lines the sides of the conflict at hand take.
const sidesShown = 9

func (p *settler) room() int { return max(p.height-6-sidesShown, 3) }

// View draws the list, and both sides of the conflict at hand.
func (p *settler) View() tea.View { return tea.NewView(p.text()) }

// text is what the terminal shows.
func (p *settler) text() string {
	if p.done || p.left {
		return ""
	}
	var b strings.Builder
	open := 0
	for _, k := range p.keep {
		if k == "" {
			open++
		}
	}
	fmt.Fprintf(&b, "%s\n\n", p.app.paint(strong, fmt.Sprintf("%s, %d still open", count(len(p.conflicts), "conflict"), open)))
	names := max(p.width-16, 20)
	for i, c := range p.conflicts[p.top:min(p.top+p.room(), len(p.conflicts))] {
		i += p.top
		mark, name := " ", pad(runewidth.Truncate(c.Address.String(), names, "…"), names)
		if i == p.at {
			mark, name = "▸", p.app.paint(strong, name)
		}
		word, t := string(p.keep[i]), good
		if word == "" {
			word, t = "open", bad
		}
		fmt.Fprintf(&b, "%s %s  %s\n", mark, name, p.app.paint(t, word))
	}
	p.sides(&b)
	fmt.Fprintf(&b, "\n%s", p.app.paint(faint,
		"← mine  → theirs  + both  space next  del open  tab all like this  enter carry out  esc change nothing"))
	return p.app.inert(b.String())
}

// sides shows what both made of the thing at hand.
func (p *settler) sides(b *strings.Builder) {
	c := p.conflicts[p.at]
	fmt.Fprintf(b, "\n%s\n", p.app.paint(strong, runewidth.Truncate("At "+c.Address.String(), max(p.width-2, 20), "…")))
	for _, s := range []struct {
		name string
		keep element.Keep
		side element.Side
	}{{"mine", element.KeepMine, c.Mine}, {"theirs", element.KeepTheirs, c.Theirs}, {"before", element.KeepBase, c.Base}} {
		t := plain
		if p.keep[p.at] == s.keep || p.keep[p.at] == element.KeepBoth && s.keep != element.KeepBase {
			t = good
		}
		lines := strings.SplitN(strings.TrimRight(sideFull(s.side), "\n"), "\n", 3)
		for i, l := range lines[:min(len(lines), 2)] {
			label := pad("", 8)
			if i == 0 {
				label = pad(s.name, 8)
			}
			if i == 1 && len(lines) > 2 {
				l += " …"
			}
			fmt.Fprintf(b, "  %s%s\n", p.app.paint(faint, label),
				p.app.paint(t, runewidth.Truncate(strings.ReplaceAll(l, "\t", " "), max(p.width-12, 20), "…")))
		}
	}
}

func (a *App) settleKeys(open []element.Conflict, keys io.Reader) (*settler, error) {
	p := &settler{app: a, conflicts: open, keep: make([]element.Keep, len(open)), width: 100, height: 24}
	if _, err := tea.NewProgram(p, tea.WithInput(keys), tea.WithOutput(a.Err)).Run(); err != nil {
		return nil, fault.New(fault.Failed, "Settle them one by one with oaken resolve ADDRESS --keep SIDE.",
			"The terminal can't be used: %w.", err)
	}
	return p, nil
}
