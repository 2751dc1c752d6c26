package cli

import (
	"fmt"
	"strings"

	"github.com/mattn/go-runewidth"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
)

// settler lets a person choose a side for each conflict, on a terminal.
type settler struct {
	app       *App
	conflicts []element.Conflict
	keep      []element.Keep // empty where it is still open
}

func (p *settler) choice() *screen.Choice {
	names := make([]string, len(p.conflicts))
	for i, c := range p.conflicts {
		names[i] = c.Address.String()
	}
	return &screen.Choice{Names: names, Heading: p.heading, Line: p.line, Detail: p.sides, DetailLines: sidesShown, Press: p.press,
		Keys: "← mine  → theirs  + both  space next  del open  tab all like this"}
}

func (p *settler) press(key string, at int) bool {
	switch key {
	case "left":
		p.choose(at, element.KeepMine)
	case "right":
		p.choose(at, element.KeepTheirs)
	case "+":
		p.choose(at, element.KeepBoth)
	case "delete", "backspace":
		p.keep[at] = ""
	case "space":
		p.next(at)
	case "tab": // all the others like this one, where they can be
		for i := range p.conflicts {
			if p.keep[at] == "" {
				p.keep[i] = ""
			}
			p.choose(i, p.keep[at])
		}
	default:
		return false
	}
	return true
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
func (p *settler) next(at int) {
	choices := []element.Keep{""}
	for _, k := range p.conflicts[at].Allows {
		if k != element.KeepValue {
			choices = append(choices, k)
		}
	}
	for i, k := range choices {
		if k == p.keep[at] {
			p.keep[at] = choices[(i+1)%len(choices)]
			return
		}
	}
}

// sidesShown is how many lines the sides of the conflict at hand take.
const sidesShown = 9

func (p *settler) heading(int) string {
	open := 0
	for _, k := range p.keep {
		if k == "" {
			open++
		}
	}
	return p.app.Paint(screen.Strong, fmt.Sprintf("%s, %d still open", screen.Count(len(p.conflicts), "conflict"), open)) + "\n"
}

func (p *settler) line(i, width int, here bool) string {
	names := max(width-14, 20)
	name := screen.Pad(runewidth.Truncate(p.conflicts[i].Address.String(), names, "…"), names)
	if here {
		name = p.app.Paint(screen.Strong, name)
	}
	word, tone := string(p.keep[i]), screen.Good
	if word == "" {
		word, tone = "open", screen.Bad
	}
	return name + "  " + p.app.Paint(tone, word)
}

// sides shows what both made of the thing at hand.
func (p *settler) sides(at, width int) string {
	var b strings.Builder
	c := p.conflicts[at]
	fmt.Fprintf(&b, "\n%s\n", p.app.Paint(screen.Strong, runewidth.Truncate("At "+c.Address.String(), max(width-2, 20), "…")))
	for _, s := range []struct {
		name string
		keep element.Keep
		side element.Side
	}{{"mine", element.KeepMine, c.Mine}, {"theirs", element.KeepTheirs, c.Theirs}, {"before", element.KeepBase, c.Base}} {
		t := screen.Plain
		if p.keep[at] == s.keep || p.keep[at] == element.KeepBoth && s.keep != element.KeepBase {
			t = screen.Good
		}
		lines := strings.SplitN(strings.TrimRight(sideFull(s.side), "\n"), "\n", 3)
		for i, l := range lines[:min(len(lines), 2)] {
			label := screen.Pad("", 8)
			if i == 0 {
				label = screen.Pad(s.name, 8)
			}
			if i == 1 && len(lines) > 2 {
				l += " …"
			}
			fmt.Fprintf(&b, "  %s%s\n", p.app.Paint(screen.Faint, label),
				p.app.Paint(t, runewidth.Truncate(strings.ReplaceAll(l, "\t", " "), max(width-12, 20), "…")))
		}
	}
	return b.String()
}

// settleKeys shows the conflicts; what comes of it counts where the person is done.
func (a *App) settleKeys(open []element.Conflict) (keep []element.Keep, done bool, err error) {
	p := &settler{app: a, conflicts: open, keep: make([]element.Keep, len(open))}
	c := p.choice()
	if err := c.Run(&a.Screen); err != nil {
		return nil, false, fault.New(fault.Failed, "Settle them one by one with oaken resolve ADDRESS --keep SIDE.",
			"The terminal can't be used: %w.", err)
	}
	return p.keep, c.Done, nil
}
