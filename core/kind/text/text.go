// Package text is the kind of plain text: the elements are lines, in order and
// without keys, so that they are matched by likeness. Line ends and a
// byte-order mark stay as they are.
package text

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// MaxSize bounds, in bytes, a text that is read line by line.
const MaxSize = 16 << 20

// Kind reads UTF-8 text.
type Kind struct{}

var _ kind.Writer = Kind{}

// Name is "text".
func (Kind) Name() string { return "text" }

// TakesRest marks it as what any text is when it is nothing else.
func (Kind) TakesRest() {}

// About describes the kind.
func (Kind) About() string { return "plain text in UTF-8: lines" }

// Claims takes what begins as text: UTF-8 without control characters other
// than white space.
func (Kind) Claims(_ string, head []byte) bool {
	for i := 0; len(head) > 0 && i < utf8.UTFMax && !utf8.Valid(head); i++ {
		head = head[:len(head)-1] // a character may be cut at the end
	}
	if !utf8.Valid(head) {
		return false
	}
	for _, b := range head {
		if b < ' ' && b != '\t' && b != '\n' && b != '\r' && b != '\f' && b != 0x1b {
			return false
		}
	}
	return true
}

// Weigh counts lines, which are compared with each other and so take more than elements elsewhere.
func (Kind) Weigh(data []byte) int64 { return kind.Count(data, "\n") * 3 / 2 }

// Read gives one `line` element a line. The root says how lines end, and
// whether the last one does.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	lines, err := split(data)
	if err != nil {
		return nil, err
	}
	root := &element.Element{Type: "text", Ordered: true}
	crlf, unended := 0, false
	for _, l := range lines {
		body := strings.TrimSuffix(l, "\n")
		unended = len(body) == len(l)
		if cut := strings.TrimSuffix(body, "\r"); !unended && len(cut) < len(body) {
			body, crlf = cut, crlf+1
		}
		root.Add(line(body))
	}
	ends := "LF"
	if crlf > 0 {
		ends = "CRLF"
		if whole := len(lines); crlf < whole && (crlf < whole-1 || !unended) {
			ends = "mixed"
		}
	}
	root.Set("line ends", element.TextValue(ends))
	if unended {
		root.Set("last line ended", element.BoolValue(false))
	}
	return &kind.Reading{Root: root}, nil
}

// writable refuses a tree that no text has.
func writable(root *element.Element) error {
	switch ends := root.Prop("line ends").Text(); ends {
	case "LF", "CRLF", "mixed":
	default:
		return fmt.Errorf("lines can't end with %q", ends)
	}
	if v := root.Prop("last line ended"); !v.IsAbsent() && v.Text() != "false" {
		return errors.New("that the last line is ended goes without saying")
	}
	for _, l := range root.Children {
		if text := l.Prop("text").Text(); strings.Contains(text, "\n") {
			return fmt.Errorf("one line can't hold two: %.40q", text)
		}
	}
	return nil
}

func line(s string) *element.Element {
	return &element.Element{Type: "line", Props: []element.Prop{{Name: "text", Value: element.TextValue(s)}}, Gist: s}
}

func split(data []byte) ([]string, error) {
	switch {
	case len(data) > MaxSize:
		return nil, errors.New("it is longer than " + element.SizeText(MaxSize))
	case !utf8.Valid(data):
		return nil, errors.New("it is not UTF-8 text")
	case bytes.IndexByte(data, 0) >= 0:
		return nil, errors.New("it holds zero bytes")
	}
	lines := strings.SplitAfter(string(data), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines, nil
}

// Write gives the text with the wanted lines; a line that stays keeps its end.
func (k Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	reading, err := k.Read(src)
	if err != nil {
		return nil, err
	}
	lines, err := split(data)
	if err != nil {
		return nil, err
	}
	d := element.Compare(reading.Root, want)
	if d == nil {
		return nil, nil
	}
	if err := writable(want); err != nil {
		return nil, err
	}
	end := "\n"
	if want.Prop("line ends").Text() == "CRLF" {
		end = "\r\n"
	}
	convert := want.Prop("line ends").Text() != "mixed" && !want.Prop("line ends").Equal(reading.Root.Prop("line ends"))
	var out []string
	last := ""
	put := func(body, raw string) {
		old := raw[len(strings.TrimRight(raw, "\r\n")):]
		if old == "" || convert || !strings.HasSuffix(old, "\n") {
			old = end
		} else if strings.HasSuffix(old, "\r\n") {
			old = "\r\n"
		} else {
			old = "\n"
		}
		out, last = append(out, body+old), old
	}
	kids := d.Kids
	if len(kids) == 0 {
		for i := range reading.Root.Children {
			kids = append(kids, element.KidEdit{From: i, To: i})
		}
	}
	for _, e := range kids {
		switch {
		case e.To < 0:
		case e.From < 0:
			put(want.Children[e.To].Prop("text").Text(), "")
		default:
			put(want.Children[e.To].Prop("text").Text(), lines[e.From])
		}
	}
	text := strings.Join(out, "")
	if want.Prop("last line ended").Text() == "false" {
		text = strings.TrimSuffix(text, last)
	}
	return map[string][]byte{src.Files()[0]: []byte(text)}, nil
}
