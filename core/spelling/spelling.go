// Package spelling merges how three versions of a text are written: by lines, and
// where both sides changed neighbouring lines by tokens, after the three-way merge of
// S. Khanna, K. Kunal and B. C. Pierce, "A Formal Investigation of Diff3" (FSTTCS 2007).
//
// It knows nothing of formats. Whoever calls it reads the outcome, and holds it
// against what is meant. Byte-order mark, encoding and line ends of a text are
// properties of the whole, and merge as such.
package spelling

import (
	"strings"
)

// Clash is a place that both sides write differently, and differently from the base.
type Clash struct {
	Base, Mine, Theirs string
	// Line is where the place begins in mine, from 1.
	Line int
}

// Take says which side of a clash stands.
type Take uint8

// The sides of a clash. Open is one that nobody has decided: mine stands.
const (
	Open Take = iota
	Mine
	Theirs
	Base
)

// Choose decides a clash. Nil leaves all open.
type Choose func(Clash) Take

// Sense says how the three versions relate.
type Sense uint8

const (
	// Edits are versions that mean different things: what one side puts in beside what the
	// other takes away may have been about that, and is a clash.
	Edits Sense = iota
	// Spellings are versions that mean the same.
	Spellings
)

// MaxSize bounds, in bytes, a text that is merged.
const MaxSize = 64 << 20

// Merge combines mine and theirs, two descendants of base. It lists the clashes that
// were left open; there mine stands. ok is false when one of the three is no text, or
// too much differs to be looked at.
func Merge(base, mine, theirs []byte, sense Sense, choose Choose) (out []byte, open []Clash, ok bool) {
	if len(base) > MaxSize || len(mine) > MaxSize || len(theirs) > MaxSize {
		return nil, nil, false
	}
	b, okB := formOf(base)
	m, okM := formOf(mine)
	t, okT := formOf(theirs)
	if !okB || !okM || !okT {
		return nil, nil, false
	}
	form, ok := b.merged(m, t)
	if !ok {
		return nil, nil, false
	}
	text, open, ok := merge(b.text(form), m.text(form), t.text(form), sense, choose)
	if !ok {
		return nil, nil, false
	}
	out, ok = form.bytes(text)
	return out, open, ok
}

// merge combines texts in one form.
func merge(base, mine, theirs string, sense Sense, choose Choose) (string, []Clash, bool) {
	b, m, t := lines(base), lines(mine), lines(theirs)
	parts, ok := parts(b, m, t)
	if !ok {
		return "", nil, false
	}
	var out strings.Builder
	var open []Clash
	for _, p := range parts {
		if text, plain := p.plain(b, m, t); plain {
			out.WriteString(text)
			continue
		}
		if text, apart := p.apart(b, m, t, sense); apart {
			out.WriteString(text)
			continue
		}
		text, left := tokens(join(b, p.b), join(m, p.m), join(t, p.t), 1+p.m[0], sense, choose)
		out.WriteString(text)
		open = append(open, left...)
	}
	return out.String(), open, true
}

// tokens merges a place that both sides changed token by token. Where that does not
// work out, the whole place is a clash.
func tokens(base, mine, theirs string, line int, sense Sense, choose Choose) (string, []Clash) {
	b, m, t := cut(base), cut(mine), cut(theirs)
	parts, ok := parts(b, m, t)
	if ok {
		var out strings.Builder
		for _, p := range parts {
			text, done := p.plain(b, m, t)
			if !done && sense == Spellings {
				text, done = p.apart(b, m, t, sense)
			}
			if ok = done; !ok {
				break
			}
			out.WriteString(text)
		}
		if ok {
			return out.String(), nil
		}
	}
	if sense == Spellings {
		// Where one side only laid out blanks anew, what the other wrote is more.
		switch x, y, z := bare(base), bare(mine), bare(theirs); {
		case y == z, x == z:
			return mine, nil
		case x == y:
			return theirs, nil
		}
	}
	c := Clash{Base: base, Mine: mine, Theirs: theirs, Line: line}
	c.shorten()
	take := Open
	if choose != nil {
		take = choose(c)
	}
	head, tail := mine[:strings.Index(mine, c.Mine)], ""
	tail = mine[len(head)+len(c.Mine):]
	switch take {
	case Theirs:
		return head + c.Theirs + tail, nil
	case Base:
		return head + c.Base + tail, nil
	case Mine:
		return mine, nil
	}
	return mine, []Clash{c}
}

// shorten leaves out the whole lines at both ends that all three have in common.
func (c *Clash) shorten() {
	b, m, t := lines(c.Base), lines(c.Mine), lines(c.Theirs)
	for len(b) > 0 && len(m) > 1 && len(t) > 0 && b[0] == m[0] && m[0] == t[0] {
		b, m, t, c.Line = b[1:], m[1:], t[1:], c.Line+1
	}
	for len(b) > 0 && len(m) > 1 && len(t) > 0 && b[len(b)-1] == m[len(m)-1] && m[len(m)-1] == t[len(t)-1] {
		b, m, t = b[:len(b)-1], m[:len(m)-1], t[:len(t)-1]
	}
	if cut := strings.Join(m, ""); strings.Count(c.Mine, cut) == 1 {
		c.Base, c.Mine, c.Theirs = strings.Join(b, ""), cut, strings.Join(t, "")
	}
}

// bare gives a text without white space.
func bare(s string) string { return strings.Join(strings.Fields(s), "") }

func join(items []string, r [2]int) string { return strings.Join(items[r[0]:r[1]], "") }

// lines cuts a text behind each line end.
func lines(text string) []string {
	out := strings.SplitAfter(text, "\n")
	if out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	return out
}
