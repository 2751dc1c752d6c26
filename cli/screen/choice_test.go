package screen

import (
	"bytes"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
)

func choosing(chosen map[int]string) *Choice {
	names := []string{"reef", "kelp", "jellies", "lagoon\x1b[2J"}
	return &Choice{Names: names, Heading: func(int) string { return "Which?\n" }, DetailLines: 1,
		Line:   func(i, _ int, here bool) string { return names[i] + map[bool]string{true: " <"}[here] },
		Detail: func(i, _ int) string { return "\nabout " + names[i] + "\n" },
		Press: func(key string, i int) bool {
			if key == "x" {
				chosen[i] = key
			}
			return key == "x"
		}, Keys: "x choose"}
}

// press gives keys to a list, with all that comes of them.
func press(c *Choice, keys ...tea.KeyPressMsg) {
	for _, key := range keys {
		_, cmd := c.Update(key)
		follow(c, cmd, 4)
	}
}

// follow does what a list asks for, which may ask for more.
func follow(c *Choice, cmd tea.Cmd, deep int) {
	if cmd == nil || deep == 0 {
		return
	}
	msg := cmd()
	if batch, ok := msg.(tea.BatchMsg); ok {
		for _, cmd := range batch {
			follow(c, cmd, deep-1)
		}
		return
	}
	if msg != nil {
		_, cmd = c.Update(msg)
		follow(c, cmd, deep-1)
	}
}

func write(c *Choice, text string) {
	for _, r := range text {
		press(c, tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

func TestThingsAreFoundByName(t *testing.T) {
	chosen := map[int]string{}
	var out bytes.Buffer
	c := choosing(chosen).On(&Screen{Out: &out, Err: &out}, 60, 20)
	if text := c.Text(); !strings.Contains(text, "▸ reef <") || !strings.Contains(text, "about reef") || strings.Contains(text, "\x1b[2J") {
		t.Errorf("at first:\n%q", text)
	}
	write(c, "/jel")
	if text := c.Text(); !strings.Contains(text, "named: jel") {
		t.Errorf("while something is looked for:\n%s", text)
	}
	write(c, "x") // is a letter of what is looked for
	if len(chosen) > 0 {
		t.Errorf("a letter chose %v", chosen)
	}
	if text := c.Text(); !strings.Contains(text, "nothing is named so") || c.At() != -1 {
		t.Errorf("of what is not there:\n%s", text)
	}
	press(c, tea.KeyPressMsg{Code: tea.KeyBackspace})
	press(c, tea.KeyPressMsg{Code: tea.KeyEnter})
	if c.Done || c.At() != 2 {
		t.Errorf("after looking: done %v, at %d", c.Done, c.At())
	}
	write(c, "x")
	press(c, tea.KeyPressMsg{Code: tea.KeyEsc}) // all again
	if c.Left || chosen[2] != "x" {
		t.Errorf("esc in a search leaves: %v, %v", c.Left, chosen)
	}
	press(c, tea.KeyPressMsg{Code: tea.KeyEsc})
	if !c.Left || c.Done || c.Text() != "" {
		t.Error("esc does not leave")
	}
}

func TestALongListIsShownByPages(t *testing.T) {
	c := choosing(map[int]string{})
	for range 50 {
		c.Names = append(c.Names, "more")
	}
	c.Line = func(i, _ int, _ bool) string { return c.Names[i] }
	c.Detail = func(int, int) string { return "" }
	c.On(&Screen{}, 40, 12)
	if text := c.Text(); strings.Count(text, "\n") > 12 || !strings.Contains(text, "of 54") {
		t.Errorf("%d lines:\n%s", strings.Count(text, "\n"), text)
	}
	press(c, tea.KeyPressMsg{Code: tea.KeyEnd})
	if c.At() != 53 {
		t.Errorf("the end is at %d", c.At())
	}
	c.Update(tea.WindowSizeMsg{Width: 30, Height: 40})
	if c.At() != 53 {
		t.Errorf("another size of the terminal leads to %d", c.At())
	}
}

func TestSayAskAndProgress(t *testing.T) {
	var out, errs bytes.Buffer
	s := &Screen{Out: &out, Err: &errs, Keys: strings.NewReader("no\n")}
	if s.Ask("Really?") || !strings.Contains(errs.String(), "Really? [yes/no]") {
		t.Errorf("asked: %q", errs.String())
	}
	s.Keys = strings.NewReader("\x1b[1;1R yes\n") // a terminal may answer something before
	if !s.Ask("Really?") {
		t.Error("yes is no")
	}
	if s.Progress() != nil {
		t.Error("there is progress where nobody sees it")
	}
	s.JSON = true
	s.Say("for people")
	if out.Len() > 0 {
		t.Errorf("with JSON people are told %q", out.String())
	}
	s.Live = true
	tell := s.Progress()
	tell("reading", 1, 10)
	s.EndProgress()
	for _, c := range []struct{ text, want string }{{"", `""`}, {"a\nb", `"a\nb"`}, {"plain", "plain"}, {" x", `" x"`}} {
		if got := OneLine(c.text, 40); got != c.want {
			t.Errorf("%q is written %s", c.text, got)
		}
	}
	if Gist("", 5) != "" || Count(1, "file") != "1 file" || Count(2, "file") != "2 files" || FirstLine("a\nb") != "a" ||
		Pad("魚", 4) != "魚  " {
		t.Error("texts")
	}
	if lines := Wrapped("one two three four", 9); strings.Join(lines, "|") != "one two|three|four" {
		t.Errorf("wrapped: %v", lines)
	}
}
