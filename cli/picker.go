package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"oakenchest/cli/screen"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/pipeline"
)

// details is how many lines tell what differs in the object at hand.
const details = 8

// picker lets a person choose a direction for each object, on a terminal.
type picker struct {
	app         *App
	environment string
	objects     []pipeline.Settled
}

func (p *picker) choice() *screen.Choice {
	names := make([]string, len(p.objects))
	for i, o := range p.objects {
		names[i] = o.Address
	}
	return &screen.Choice{Names: names, Heading: p.heading, Line: p.line, Detail: p.detail, DetailLines: details + 2, Press: p.press,
		Keys: "← chest  → " + p.environment + "  del leave  space next  tab all like this"}
}

func (p *picker) press(key string, at int) bool {
	switch key {
	case "left":
		p.objects[at].Direction = pipeline.ToChest
	case "right":
		p.objects[at].Direction = pipeline.ToEnvironment
	case "delete", "backspace":
		p.objects[at].Direction = pipeline.Leave
	case "space":
		i := slices.Index(pipeline.Directions, p.objects[at].Direction)
		p.objects[at].Direction = pipeline.Directions[(i+1)%len(pipeline.Directions)]
	case "tab": // all the others like this one
		for i := range p.objects {
			p.objects[i].Direction = p.objects[at].Direction
		}
	default:
		return false
	}
	return true
}

// directionText says where an object goes.
func directionText(d pipeline.Direction, environment string) (string, screen.Tone) {
	switch d {
	case pipeline.ToChest:
		return "← to the chest", screen.Good
	case pipeline.ToEnvironment:
		return "→ to " + environment, screen.Warm
	}
	return "  leave", screen.Faint
}

// widths are those of the columns: the names, and what the two sides have.
func (p *picker) widths(width int) (names, chest, there int) {
	names, chest, there = len("object"), len("chest"), runewidth.StringWidth(p.environment)
	for _, o := range p.objects {
		names = max(names, runewidth.StringWidth(o.Address))
		chest, there = max(chest, len(o.Chest)), max(there, len(o.Environment))
	}
	return min(names, max(width-chest-there-26-runewidth.StringWidth(p.environment), 20)), chest, there
}

func (p *picker) heading(width int) string {
	names, chest, there := p.widths(width)
	title := fmt.Sprintf("%s and the workspace differ in %s", p.environment, screen.Count(len(p.objects), "object"))
	return p.app.Paint(screen.Strong, title) + "\n\n" + p.app.Paint(screen.Faint,
		fmt.Sprintf("  %s  %s  %s", screen.Pad("object", names), screen.Pad("chest", chest), screen.Pad(p.environment, there)))
}

func (p *picker) line(i, width int, here bool) string {
	o := p.objects[i]
	names, chest, there := p.widths(width)
	name := screen.Pad(runewidth.Truncate(o.Address, names, "…"), names)
	if here {
		name = p.app.Paint(screen.Strong, name)
	}
	text, tone := directionText(o.Direction, p.environment)
	return fmt.Sprintf("%s  %s  %s  %s", name, screen.Pad(o.Chest, chest), screen.Pad(o.Environment, there), p.app.Paint(tone, text))
}

// detail tells what differs in the object at hand.
func (p *picker) detail(at, width int) string {
	o := p.objects[at]
	var lines []string
	for _, c := range o.Changes {
		text, _ := changeText(c, func(_ string, v element.Value) string { return v.String() })
		at := strings.TrimPrefix(c.Address.InPath("x").String(), "x::")
		lines = append(lines, strings.TrimPrefix(at, "x")+"  "+text)
	}
	if len(lines) == 0 {
		lines = []string{"only " + map[bool]string{true: p.environment,
			false: "the chest"}[o.Chest == pipeline.Missing || o.Chest == pipeline.Gone] + " has it"}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "\n%s\n", p.app.Paint(screen.Strong, "In "+o.Address+", from the chest (left) to "+p.environment))
	for i, l := range lines {
		if i == details-1 && len(lines) > details {
			fmt.Fprintf(&b, "  … and %s more\n", screen.Count(len(lines)-i, "change"))
			break
		}
		fmt.Fprintf(&b, "  %s\n", runewidth.Truncate(screen.OneLine(l, 400), max(width-4, 20), "…"))
	}
	return b.String()
}

// pick shows the picker; false says that the person wants nothing to be done.
func (a *App) pick(environment string, objects []pipeline.Settled) (bool, error) {
	c := (&picker{app: a, environment: environment, objects: objects}).choice()
	if err := c.Run(&a.Screen); err != nil {
		return false, fault.New(fault.Failed, "Write the plan into a file with --plan FILE, and carry it out with --follow FILE.",
			"The terminal can't be used: %w.", err)
	}
	return c.Done, nil
}
