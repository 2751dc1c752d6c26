package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
)

// picker lets a person choose a direction for each object, on a terminal.
type picker struct {
	app         *App
	environment string
	objects     []pipeline.Settled
	cursor
	width, height int
	done, left    bool
}

// Init asks for nothing.
func (p *picker) Init() tea.Cmd { return nil }

// Update takes a key or a new size.
func (p *picker) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		p.width, p.height = msg.Width, msg.Height
	case tea.KeyPressMsg:
		return p, p.key(msg.String())
	}
	p.scroll(p.room())
	return p, nil
}

func (p *picker) key(key string) tea.Cmd {
	if p.move(key, len(p.objects), p.room()) {
		return nil
	}
	switch key {
	case "left":
		p.direct(pipeline.ToChest)
	case "right":
		p.direct(pipeline.ToEnvironment)
	case "delete", "backspace":
		p.direct(pipeline.Leave)
	case "space":
		i := slices.Index(pipeline.Directions, p.objects[p.at].Direction)
		p.direct(pipeline.Directions[(i+1)%len(pipeline.Directions)])
	case "tab": // all the others like this one
		for i := range p.objects {
			p.objects[i].Direction = p.objects[p.at].Direction
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

func (p *picker) direct(d pipeline.Direction) { p.objects[p.at].Direction = d }

// details is how many lines tell what differs in the object at hand.
const details = 8

// room is how many objects fit on the terminal.
func (p *picker) room() int { return max(p.height-8-details, 3) }

// directionText says where an object goes.
func directionText(d pipeline.Direction, environment string) (string, tone) {
	switch d {
	case pipeline.ToChest:
		return "← to the chest", good
	case pipeline.ToEnvironment:
		return "→ to " + environment, warm
	}
	return "  leave", faint
}

// View draws the list.
func (p *picker) View() tea.View { return tea.NewView(p.text()) }

// text is what the terminal shows.
func (p *picker) text() string {
	if p.done || p.left {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n", p.app.paint(strong, fmt.Sprintf("%s and the workspace differ in %s", p.environment,
		count(len(p.objects), "object"))))
	shown := p.objects[p.top:min(p.top+p.room(), len(p.objects))]
	names, chest, there := runewidth.StringWidth("object"), len("chest"), runewidth.StringWidth(p.environment)
	for _, o := range p.objects {
		names, chest, there = max(names, runewidth.StringWidth(o.Address)), max(chest, len(o.Chest)), max(there, len(o.Environment))
	}
	names = min(names, max(p.width-chest-there-26-runewidth.StringWidth(p.environment), 20))
	line := func(mark, name, c, e, d string) {
		fmt.Fprintf(&b, "%s %s  %s  %s  %s\n", mark, pad(runewidth.Truncate(name, names, "…"), names), pad(c, chest), pad(e, there), d)
	}
	line(" ", "object", "chest", p.environment, "")
	for i, o := range shown {
		mark := " "
		if p.top+i == p.at {
			mark = "▸"
		}
		text, t := directionText(o.Direction, p.environment)
		name := pad(runewidth.Truncate(o.Address, names, "…"), names)
		if mark == "▸" {
			name = p.app.paint(strong, name)
		}
		fmt.Fprintf(&b, "%s %s  %s  %s  %s\n", mark, name, pad(o.Chest, chest), pad(o.Environment, there), p.app.paint(t, text))
	}
	p.detail(&b)
	fmt.Fprintf(&b, "\n%s", p.app.paint(faint,
		"← chest  → "+p.environment+"  del leave  space next  tab all like this  enter carry out  esc change nothing"))
	return p.app.inert(b.String())
}

// detail tells what differs in the object at hand.
func (p *picker) detail(b *strings.Builder) {
	o := p.objects[p.at]
	var lines []string
	for _, c := range o.Changes {
		text, _ := changeText(c, func(_ string, v element.Value) string { return v.String() })
		at := strings.TrimPrefix(c.Address.InPath("x").String(), "x::")
		lines = append(lines, strings.TrimPrefix(at, "x")+"  "+text)
	}
	if len(lines) == 0 {
		lines = []string{"only " + map[bool]string{true: p.environment, false: "the chest"}[o.Chest == pipeline.Missing ||
			o.Chest == pipeline.Gone] + " has it"}
	}
	fmt.Fprintf(b, "\n%s\n", p.app.paint(strong, "In "+o.Address+", from the chest to "+p.environment))
	for i, l := range lines {
		if i == details-1 && len(lines) > details {
			fmt.Fprintf(b, "  … and %s more\n", count(len(lines)-i, "change"))
			break
		}
		fmt.Fprintf(b, "  %s\n", runewidth.Truncate(oneLine(l, 400), max(p.width-4, 20), "…"))
	}
}

func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(width-runewidth.StringWidth(s), 0))
}

// pick shows the picker; false says that the person wants nothing to be done.
func (a *App) pick(environment string, objects []pipeline.Settled, keys io.Reader) (bool, error) {
	p := &picker{app: a, environment: environment, objects: objects, width: 100, height: 24}
	if _, err := tea.NewProgram(p, tea.WithInput(keys), tea.WithOutput(a.Err)).Run(); err != nil {
		return false, fault.New(fault.Failed, "Write the plan into a file with --plan FILE, and carry it out with --follow FILE.",
			"The terminal can't be used: %w.", err)
	}
	return p.done, nil
}
