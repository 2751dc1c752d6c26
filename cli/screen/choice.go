package screen

import (
	"fmt"
	"io"
	"strings"

	"charm.land/bubbles/v2/list"
	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"
)

// Choice lets a person go through a list on the terminal, and choose something for each thing in it.
type Choice struct {
	// Names are the things, as they are found by / too.
	Names []string
	// Heading tells on lines what is chosen; Line writes one thing on a line of a width, chosen or not.
	Heading func(width int) string
	Line    func(i, width int, here bool) string
	// Detail tells more of the thing at hand, on DetailLines at most.
	Detail      func(i, width int) string
	DetailLines int
	// Press does what a key means for the thing at hand; false where it means nothing.
	Press func(key string, i int) bool
	// Keys is the line that says what keys do.
	Keys string

	screen *Screen
	list   list.Model
	width  int
	height int
	// Done says that the person wants it carried out, Left that nothing is to be done.
	Done, Left bool
}

// named is a thing of the list, by its number.
type named struct {
	i    int
	name string
}

// FilterValue is what is looked for.
func (n named) FilterValue() string { return n.name }

// line draws things.
type line struct{ *Choice }

// Render draws one.
func (l line) Render(w io.Writer, m list.Model, index int, item list.Item) {
	n, ok := item.(named)
	if !ok {
		return
	}
	mark := " "
	if index == m.Index() {
		mark = "▸"
	}
	fmt.Fprintf(w, "%s %s", mark, l.Line(n.i, l.width, index == m.Index()))
}

// Height, Spacing and Update answer list.ItemDelegate.
func (line) Height() int                               { return 1 }
func (line) Spacing() int                              { return 0 }
func (line) Update(tea.Msg, *list.Model) (cmd tea.Cmd) { return nil }

// On puts the list on a screen of a size.
func (c *Choice) On(s *Screen, width, height int) *Choice {
	c.screen, c.width, c.height = s, width, height
	items := make([]list.Item, len(c.Names))
	for i, name := range c.Names {
		items[i] = named{i, name}
	}
	c.list = list.New(items, line{c}, width, c.room())
	c.list.SetShowTitle(false)
	c.list.SetShowStatusBar(false)
	c.list.SetShowHelp(false)
	c.list.SetShowPagination(false)
	c.list.DisableQuitKeybindings()
	c.list.FilterInput.SetVirtualCursor(false) // nothing of it is drawn here
	c.list.KeyMap.PrevPage.SetKeys("pgup")
	c.list.KeyMap.NextPage.SetKeys("pgdown")
	c.list.KeyMap.CursorUp.SetKeys("up")
	c.list.KeyMap.CursorDown.SetKeys("down")
	c.list.KeyMap.GoToStart.SetKeys("home")
	c.list.KeyMap.GoToEnd.SetKeys("end")
	return c
}

// Run shows the list until the person is done.
func (c *Choice) Run(s *Screen) error {
	_, err := tea.NewProgram(c.On(s, 100, 24), tea.WithInput(s.Keys), tea.WithOutput(s.Err)).Run()
	return err
}

// room is how many things fit on the terminal.
func (c *Choice) room() int {
	return max(c.height-strings.Count(c.Heading(c.width), "\n")-c.DetailLines-5, 3)
}

// At is the thing at hand; -1 where what is looked for is not there.
func (c *Choice) At() int {
	if n, ok := c.list.SelectedItem().(named); ok {
		return n.i
	}
	return -1
}

// Init asks for nothing.
func (c *Choice) Init() tea.Cmd { return nil }

// Update takes a key or a new size.
func (c *Choice) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		c.width, c.height = msg.Width, msg.Height
		c.list.SetSize(msg.Width, c.room())
		return c, nil
	case tea.KeyPressMsg:
		if c.list.FilterState() != list.Filtering {
			if done, cmd := c.key(msg.String()); done {
				return c, cmd
			}
		}
	}
	var cmd tea.Cmd
	c.list, cmd = c.list.Update(msg)
	return c, cmd
}

func (c *Choice) key(key string) (bool, tea.Cmd) {
	switch key {
	case "enter":
		c.Done = true
		return true, tea.Quit
	case "esc":
		if c.list.FilterState() == list.FilterApplied { // the list shows all again
			return false, nil
		}
		c.Left = true
		return true, tea.Quit
	case "ctrl+c":
		c.Left = true
		return true, tea.Quit
	}
	at := c.At()
	return at >= 0 && c.Press(key, at), nil
}

// View draws the list, and what there is to tell of the thing at hand.
func (c *Choice) View() tea.View { return tea.NewView(c.Text()) }

// Text is what the terminal shows.
func (c *Choice) Text() string {
	if c.Done || c.Left {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", c.Heading(c.width))
	if state := c.list.FilterState(); state != list.Unfiltered {
		fmt.Fprintf(&b, "%s\n", c.screen.Paint(Faint, "named: "+c.list.FilterInput.Value()))
	}
	// the list is drawn by itself, for its own colours are none of ours
	items := c.list.VisibleItems()
	first, last := c.list.Paginator.GetSliceBounds(len(items))
	for i := first; i < last; i++ {
		line{c}.Render(&b, c.list, i, items[i])
		b.WriteByte('\n')
	}
	if len(items) == 0 {
		b.WriteString("  nothing is named so\n")
	} else if left := len(items) - (last - first); left > 0 {
		fmt.Fprintf(&b, "%s\n", c.screen.Paint(Faint, fmt.Sprintf("  %d to %d of %d", first+1, last, len(items))))
	}
	if at := c.At(); at >= 0 {
		b.WriteString(c.Detail(at, c.width))
	}
	fmt.Fprintf(&b, "\n%s", c.screen.Paint(Faint, runewidth.Truncate(c.Keys+"  / find  enter carry out  esc change nothing",
		max(c.width, 20), "…")))
	return c.screen.Inert(b.String())
}
