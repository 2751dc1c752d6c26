// Package page draws a comparison as one web page that needs nothing else: what
// changed in each artifact, pictures side by side, sounds as waves, scenes as
// tables of their nodes, texts line by line.
package page

import (
	_ "embed" // for the page's form
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/lines"
	"oakenchest/core/state"
)

//go:embed page.html
var form string

//go:embed page.css
var style string

//go:embed page.js
var script string

// tmpl is parsed when the first page is written: most calls draw none.
var tmpl = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(form)) })

// Artifact is a difference with both versions; one that is not there is nil.
type Artifact struct {
	state.Difference
	Was, Is *state.Artifact
}

// Page is a comparison of two states.
type Page struct {
	From, To string
	// Head, when set, stands above the artifacts; Remarks stand beside what they are about,
	// when they are there before the artifacts are added.
	Head      *Head
	Remarks   []Remark
	artifacts []section
	left      int64 // how many bytes of media may still be put in
}

// maxMedia bounds, in bytes, the pictures and sounds that a page holds.
const maxMedia = 96 << 20

// New begins a page.
func New(from, to string) *Page { return &Page{From: from, To: to, left: maxMedia} }

// section is what the page shows of one artifact.
type section struct {
	ID, Path, Kind, Word string
	Note                 string
	Changes              []row
	Remarks              []Remark // about the artifact as a whole, or what is not in the list
	Clashes              []Clash
	Count                int // of the changes, listed or not
	More                 int
	Pictures             []pictures
	Sounds               []sounds
	Nodes                *nodeTable
	Texts                []text
}

// row is a change as the page shows it.
type row struct {
	Steps    []crumb
	Property string
	Word     string
	From, To []piece
	Note     string
	Remarks  []Remark
}

// crumb is a step of an address; it is faint where the row above has it too.
type crumb struct {
	Type, Key string
	Again     bool
}

// piece is a run of a text, marked where it differs.
type piece struct {
	Text   string
	Marked bool
}

type text struct {
	Title   string
	LaidOut bool
	Runs    [][]lineRow
	Rows    int
}

type lineRow struct {
	Was, Is       string
	Before, After []piece
	Same          bool
	HasWas, HasIs bool
}

// mostChanges and mostLines bound what the page lists of one artifact.
const (
	mostChanges = 1000
	mostLines   = 3000
	longValue   = 600
)

// Add puts an artifact on the page.
func (p *Page) Add(a Artifact) {
	s := section{ID: fmt.Sprintf("a%d", len(p.artifacts)+1), Path: a.Path, Kind: a.Kind, Word: word(a)}
	if a.Why != "" {
		s.Note = "It can't be read as what it seems to be: " + a.Why + "."
	}
	switch {
	case s.Word != "edited" && len(a.Changes) == 1:
		s.Note = strings.TrimSpace(s.Note + " " + whole(a.Changes[0]))
	case a.Kind != "text": // whose changes are lines, which are shown anyway
		s.Changes, s.More = changeRows(a)
	}
	s.Count = len(a.Changes)
	p.place(a, &s)
	s.Pictures, s.Sounds = p.media(a)
	s.Nodes = nodes(a)
	for _, t := range state.Texts(a.Was, a.Is) {
		if rows, ok := lines.Compare(t.Was, t.Is); ok {
			s.Texts = append(s.Texts, textOf(t, rows))
		}
	}
	p.artifacts = append(p.artifacts, s)
}

// word says what became of the artifact.
func word(a Artifact) string {
	switch {
	case a.Was == nil && a.Is != nil:
		return "added"
	case a.Is == nil && a.Was != nil:
		return "removed"
	case len(a.Changes) == 1 && a.Changes[0].Address.Whole():
		return string(a.Changes[0].Kind)
	}
	return "edited"
}

// whole says in words what became of a whole artifact.
func whole(c element.Change) string {
	if c.Kind == element.Moved {
		return "It was " + c.From.String() + " before."
	}
	return summary(c)
}

func changeRows(a Artifact) (rows []row, more int) {
	var last []element.Step
	for i, c := range a.Changes {
		if i == mostChanges {
			return rows, len(a.Changes) - i
		}
		if a.Note(c) != "" && (a.Kind == "picture" || a.Kind == "sound") {
			continue // it stands below the picture
		}
		r := row{Property: c.Address.Property, Word: string(c.Kind), Note: a.Note(c)}
		for k, s := range c.Address.Steps {
			key := s.Key
			if s.Ordinal > 0 {
				key = fmt.Sprintf("#%d", s.Ordinal)
			}
			again := k < len(last) && last[k] == s && (k < len(c.Address.Steps)-1 || c.Kind == element.Edited)
			r.Steps = append(r.Steps, crumb{s.Type, key, again})
			if !again {
				last = nil
			}
		}
		last = c.Address.Steps
		r.From, r.To = values(c, kindOf(a))
		rows = append(rows, r)
	}
	return rows, 0
}

// values gives what a change leads from and to, with the words that differ marked.
func values(c element.Change, speaker kind.Kind) (from, to []piece) {
	switch c.Kind {
	case element.Added:
		return nil, []piece{{Text: summary(c)}}
	case element.Removed:
		return []piece{{Text: summary(c)}}, nil
	}
	a, b := shown(c.From), shown(c.To)
	if s, ok := speaker.(kind.Speaker); ok && s.Say(c.Address.Property, c.From) != "" && s.Say(c.Address.Property, c.To) != "" {
		a, b = s.Say(c.Address.Property, c.From), s.Say(c.Address.Property, c.To)
	}
	if c.From.IsAbsent() || c.To.IsAbsent() {
		if c.From.IsAbsent() {
			return nil, []piece{{Text: b}}
		}
		return []piece{{Text: a}}, nil
	}
	x, y := lines.Words(a, b)
	return pieces(a, x), pieces(b, y)
}

// kindOf gives the kind of an artifact, nil when neither version is there.
func kindOf(a Artifact) kind.Kind {
	if a.Is != nil {
		return a.Is.Kind
	}
	return nil
}

func summary(c element.Change) string {
	if c.Element == nil {
		return ""
	}
	return shorten(c.Element.Summary())
}

func shown(v element.Value) string { return shorten(v.String()) }

func shorten(s string) string {
	if len(s) <= longValue {
		return s
	}
	return strings.ToValidUTF8(s[:longValue], "") + fmt.Sprintf(" … (%s)", element.SizeText(int64(len(s))))
}

// pieces cuts a text at its marks; a text that is marked throughout has none.
func pieces(s string, marks [][2]int) []piece {
	if len(marks) == 1 && marks[0] == [2]int{0, len(s)} {
		return []piece{{Text: s}}
	}
	var out []piece
	at := 0
	for _, m := range marks {
		if m[0] > at {
			out = append(out, piece{Text: s[at:m[0]]})
		}
		out = append(out, piece{s[m[0]:m[1]], true})
		at = m[1]
	}
	if at < len(s) {
		out = append(out, piece{Text: s[at:]})
	}
	return out
}

func textOf(t state.TextPair, rows []lines.Row) text {
	out := text{LaidOut: t.LaidOut}
	if len(t.Address.Steps) > 0 {
		out.Title = strings.TrimPrefix(t.Address.String(), element.Address{Path: t.Address.Path}.String()+"::")
	}
	for _, run := range lines.Fold(rows, 3) {
		var list []lineRow
		for _, r := range run {
			if out.Rows++; out.Rows > mostLines {
				break
			}
			l := lineRow{Same: r.Same(), HasWas: r.Was > 0, HasIs: r.Is > 0}
			if r.Was > 0 {
				l.Was, l.Before = fmt.Sprint(r.Was), pieces(r.Before, r.WasMarks)
			}
			if r.Is > 0 {
				l.Is, l.After = fmt.Sprint(r.Is), pieces(r.After, r.IsMarks)
			}
			list = append(list, l)
		}
		out.Runs = append(out.Runs, list)
	}
	return out
}

// Write writes the page.
func (p *Page) Write(w io.Writer) error {
	return tmpl().Execute(w, map[string]any{"Head": p.Head, "From": p.From, "To": p.To, "Artifacts": p.artifacts,
		"Style": template.CSS(style), "Script": template.JS(script)})
}

// bytesOf gives the bytes of a single-file artifact, nil for none.
func bytesOf(a *state.Artifact) []byte {
	if a == nil || a.Source == nil {
		return nil
	}
	data, err := kind.Main(a.Source)
	if err != nil {
		return nil
	}
	return data
}
