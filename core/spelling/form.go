package spelling

import (
	"bytes"
	"strings"

	"oakenchest/core/kind/charset"
)

// form is what a text is as a whole, apart from its lines.
type form struct {
	body    string // with line ends of \n where they are alike
	charset string
	mark    bool // it begins with a byte-order mark
	crlf    bool // its lines end with \r\n, all of them
	mixed   bool // some do; the ends are then part of the lines
	several bool // it has a line end at all
}

const mark = "\ufeff"

func formOf(data []byte) (form, bool) {
	text, name, ok := charset.Decode(data)
	if !ok || bytes.IndexByte(text, 0) >= 0 {
		return form{}, false
	}
	f := form{charset: name}
	f.body, f.mark = strings.CutPrefix(string(text), mark)
	crlf, all := strings.Count(f.body, "\r\n"), strings.Count(f.body, "\n")
	f.several = all > 0
	switch {
	case crlf > 0 && crlf == all:
		f.crlf = true
	case crlf > 0:
		f.mixed = true
	}
	return f, true
}

// merged gives the form of the outcome: what one side changed of it.
func (b form) merged(m, t form) (form, bool) {
	out := form{charset: either(b.charset, m.charset, t.charset), mark: either(b.mark, m.mark, t.mark)}
	out.mixed = b.mixed || m.mixed || t.mixed
	switch {
	case out.mixed:
	case !b.several && !m.several:
		out.crlf = t.crlf
	case !b.several && !t.several:
		out.crlf = m.crlf
	case !b.several && m.crlf != t.crlf:
		return out, false // each began lines in its own way
	default:
		out.crlf = either(b.crlf, m.crlf, t.crlf)
	}
	if m.charset != t.charset && m.charset != b.charset && t.charset != b.charset {
		return out, false
	}
	return out, true
}

// either gives what one side made of a value.
func either[T comparable](b, m, t T) T {
	if m == b {
		return t
	}
	return m
}

// text gives the lines of a version for a merge into a form.
func (f form) text(into form) string {
	if into.mixed {
		return f.body
	}
	return strings.ReplaceAll(f.body, "\r\n", "\n")
}

// bytes writes lines in a form.
func (f form) bytes(text string) ([]byte, bool) {
	if f.crlf {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	if f.mark {
		text = mark + text
	}
	return charset.Encode([]byte(text), f.charset)
}

// Reform gives a text the encoding, the mark and the line ends that a merge of three
// versions has. ok is false when the sides differ in that, or one is no text.
func Reform(base, mine, theirs, text []byte) (out []byte, ok bool) {
	b, okB := formOf(base)
	m, okM := formOf(mine)
	t, okT := formOf(theirs)
	f, okF := formOf(text)
	if !okB || !okM || !okT || !okF {
		return nil, false
	}
	form, ok := b.merged(m, t)
	if !ok {
		return nil, false
	}
	return form.bytes(f.text(form))
}

// Differ reports whether both sides gave a text another encoding or other line ends, and
// not the same.
func Differ(base, mine, theirs []byte) bool {
	b, okB := formOf(base)
	m, okM := formOf(mine)
	t, okT := formOf(theirs)
	if !okB || !okM || !okT {
		return false
	}
	_, ok := b.merged(m, t)
	return !ok
}
