package xmltree

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// sink takes what a scanner finds. Offsets are bytes of the document; texts
// are parts of it wherever they need no decoding.
type sink interface {
	startTag(name string, attrs []attr, from, to int, closed bool) error
	endTag(name string, from, to int) error
	text(decoded string, from, to int) error
	other(from, to int) // a comment, a processing instruction, the document type
}

// attr is an attribute; from and to bound its raw value, quotes left out, and
// lead its first byte with the space before it, in the start tag.
type attr struct {
	name, value    string
	lead, from, to int
}

// scanner reads a document (XML 1.0, fifth edition). Nothing is ever fetched, and
// nothing expanded but the document's own entities that stand for plain text, so
// that it can't grow beyond bounds; others are refused.
type scanner struct {
	src   string
	at    int
	to    sink
	attrs []attr
	// entities are those that the document declares as plain text; expanded is how
	// many bytes of them were put in.
	entities map[string]string
	expanded int
	rough    bool // only places are asked for: references stay as they are
}

// maxExpanded bounds, in bytes, what a document's own entities add to it.
const maxExpanded = 1 << 20

func (s *scanner) fail(at int, format string, args ...any) error {
	return fmt.Errorf("line %d: %w", strings.Count(s.src[:min(at, len(s.src))], "\n")+1, fmt.Errorf(format, args...))
}

func (s *scanner) run() error {
	if !utf8.ValidString(s.src) {
		return errors.New("it is not UTF-8")
	}
	s.at = len(s.src) - len(strings.TrimPrefix(s.src, "\ufeff"))
	for s.at < len(s.src) {
		var err error
		switch {
		case s.src[s.at] != '<':
			err = s.chars()
		case s.at+1 < len(s.src) && s.src[s.at+1] == '/':
			err = s.closing()
		case s.at+1 < len(s.src) && (s.src[s.at+1] == '!' || s.src[s.at+1] == '?'):
			err = s.markup()
		default:
			err = s.opening()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *scanner) chars() error {
	from := s.at
	end := strings.IndexByte(s.src[from:], '<')
	if end < 0 {
		end = len(s.src) - from
	}
	s.at = from + end
	raw := s.src[from:s.at]
	if i := strings.Index(raw, "]]>"); i >= 0 {
		return s.fail(from+i, "]]> stands in text")
	}
	text, err := s.decode(raw, from, false)
	if err != nil {
		return err
	}
	return s.to.text(text, from, s.at)
}

// decode resolves references and joins the two forms of line ends into one. In the value of
// an attribute, white space that is no reference is a blank each (section 3.3.3).
func (s *scanner) decode(raw string, at int, attribute bool) (string, error) {
	if bad := forbidden(raw); bad >= 0 {
		return "", s.fail(at+bad, "a character that XML does not allow")
	}
	if s.rough || strings.IndexByte(raw, '&') < 0 && strings.IndexByte(raw, '\r') < 0 && !(attribute && strings.ContainsAny(raw, "\n\t")) {
		return raw, nil
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		switch raw[i] {
		case '\n', '\t':
			if attribute {
				b.WriteByte(' ')
			} else {
				b.WriteByte(raw[i])
			}
		case '\r':
			if attribute {
				b.WriteByte(' ')
			} else {
				b.WriteByte('\n')
			}
			if i+1 < len(raw) && raw[i+1] == '\n' {
				i++
			}
		case '&':
			end := strings.IndexByte(raw[i:min(len(raw), i+40)], ';')
			if end < 0 {
				return "", s.fail(at+i, "an & that begins no reference")
			}
			name := raw[i+1 : i+end]
			if text, own := s.entities[name]; own {
				if s.expanded += len(text); s.expanded > maxExpanded {
					return "", s.fail(at+i, "the entities of the document add up to too much")
				}
				b.WriteString(text)
				i += end
				continue
			}
			r, err := reference(name)
			if err != nil {
				return "", s.fail(at+i, "%w", err)
			}
			b.WriteRune(r)
			i += end
		default:
			b.WriteByte(raw[i])
		}
	}
	return b.String(), nil
}

// forbidden gives the place of a character outside of XML's (production 2), or -1.
func forbidden(s string) int {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' || c == 0xEF &&
			(strings.HasPrefix(s[i:], "\uFFFE") || strings.HasPrefix(s[i:], "\uFFFF")) {
			return i
		}
	}
	return -1
}

func reference(name string) (rune, error) {
	switch name {
	case "lt":
		return '<', nil
	case "gt":
		return '>', nil
	case "amp":
		return '&', nil
	case "quot":
		return '"', nil
	case "apos":
		return '\'', nil
	}
	digits, number := strings.CutPrefix(name, "#")
	base := 10
	if hex, ok := strings.CutPrefix(digits, "x"); ok {
		digits, base = hex, 16
	}
	if n, err := strconv.ParseUint(digits, base, 32); number && err == nil {
		if r := rune(n); n <= utf8.MaxRune && utf8.ValidRune(r) && forbidden(string(r)) < 0 {
			return r, nil
		}
	}
	return 0, fmt.Errorf("the reference &%s; stands for nothing that is known", name)
}

// markup passes comments, processing instructions and the document type, and
// takes CDATA sections as text.
func (s *scanner) markup() error {
	from, rest := s.at, s.src[s.at:]
	until := func(open, end string) (string, error) {
		i := strings.Index(rest[len(open):], end)
		if i < 0 {
			return "", s.fail(from, "what begins with %s never ends", open)
		}
		s.at = from + len(open) + i + len(end)
		return rest[len(open) : len(open)+i], nil
	}
	switch {
	case strings.HasPrefix(rest, "<![CDATA["):
		raw, err := until("<![CDATA[", "]]>")
		if err != nil {
			return err
		}
		if bad := forbidden(raw); bad >= 0 {
			return s.fail(from+bad, "a character that XML does not allow")
		}
		return s.to.text(strings.ReplaceAll(strings.ReplaceAll(raw, "\r\n", "\n"), "\r", "\n"), from, s.at)
	case strings.HasPrefix(rest, "<!--"):
		raw, err := until("<!--", "-->")
		if err != nil {
			return err
		}
		if strings.Contains(raw, "--") || strings.HasSuffix(raw, "-") {
			return s.fail(from, "two hyphens in a comment")
		}
	case strings.HasPrefix(rest, "<?"):
		raw, err := until("<?", "?>")
		if err != nil {
			return err
		}
		if nameEnd(raw) == 0 {
			return s.fail(from, "a processing instruction without a name")
		}
	case strings.HasPrefix(rest, "<!DOCTYPE"):
		if err := s.documentType(); err != nil {
			return err
		}
		s.declare(s.src[from:s.at])
	default:
		return s.fail(from, "markup that is not understood")
	}
	s.to.other(from, s.at)
	return nil
}

// documentType passes the declaration with its inner subset.
func (s *scanner) documentType() error {
	from, depth, quote := s.at, 0, byte(0)
	for ; s.at < len(s.src); s.at++ {
		c := s.src[s.at]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case strings.HasPrefix(s.src[s.at:], "<!--"):
			end := strings.Index(s.src[s.at+4:], "-->")
			if end < 0 {
				return s.fail(s.at, "a comment that never ends")
			}
			s.at += 4 + end + 2
		case c == '"' || c == '\'':
			quote = c
		case c == '[' || c == '<':
			depth++
		case c == ']':
			depth--
		case c == '>':
			if depth--; depth == 0 {
				s.at++
				return nil
			}
		}
	}
	return s.fail(from, "a document type that never ends")
}

var entityDeclaration = regexp.MustCompile(`<!ENTITY\s+([A-Za-z_][\w.-]*)\s+(?:"([^"&<%]*)"|'([^'&<%]*)')\s*>`)

// declare takes the entities of a document type that stand for plain text. Others,
// which hold references or are kept elsewhere, stay unknown.
func (s *scanner) declare(doctype string) {
	for _, m := range entityDeclaration.FindAllStringSubmatch(doctype, -1) {
		if s.entities == nil {
			s.entities = map[string]string{}
		}
		if _, twice := s.entities[m[1]]; !twice && forbidden(m[2]+m[3]) < 0 { // the first one counts
			s.entities[m[1]] = m[2] + m[3]
		}
	}
}

func isSpace(c byte) bool { return c == ' ' || c == '\n' || c == '\t' || c == '\r' }

// nameEnd gives the length of the name that a text begins with (production 5,
// all letters beyond ASCII taken).
func nameEnd(s string) int {
	for i := 0; i < len(s); i++ {
		c := s[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c == ':' || c >= 0x80
		if !letter && (i == 0 || (c < '0' || c > '9') && c != '-' && c != '.') {
			return i
		}
	}
	return len(s)
}

func (s *scanner) closing() error {
	from := s.at
	n := nameEnd(s.src[from+2:])
	name := s.src[from+2 : from+2+n]
	s.at = from + 2 + n
	s.space()
	if n == 0 || s.at == len(s.src) || s.src[s.at] != '>' {
		return s.fail(from, "an end tag is malformed")
	}
	s.at++
	if err := s.to.endTag(name, from, s.at); err != nil {
		return s.fail(from, "%w", err)
	}
	return nil
}

func (s *scanner) space() {
	for s.at < len(s.src) && isSpace(s.src[s.at]) {
		s.at++
	}
}

func (s *scanner) opening() error {
	from := s.at
	n := nameEnd(s.src[from+1:])
	if n == 0 {
		return s.fail(from, "a start tag is malformed")
	}
	name := s.src[from+1 : from+1+n]
	s.at = from + 1 + n
	s.attrs = s.attrs[:0]
	for {
		lead := s.at
		s.space()
		closed := strings.HasPrefix(s.src[s.at:], "/>")
		if closed || s.at < len(s.src) && s.src[s.at] == '>' {
			if s.at++; closed {
				s.at++
			}
			if twice := duplicate(s.attrs); twice != "" {
				return s.fail(from, "the attribute %s stands twice", twice)
			}
			if err := s.to.startTag(name, s.attrs, from, s.at, closed); err != nil {
				return s.fail(from, "%w", err)
			}
			return nil
		}
		if lead == s.at {
			return s.fail(from, "a start tag is malformed")
		}
		if err := s.attribute(from, lead); err != nil {
			return err
		}
	}
}

func (s *scanner) attribute(from, lead int) error {
	n := nameEnd(s.src[s.at:])
	name := s.src[s.at : s.at+n]
	s.at += n
	s.space()
	if n == 0 || s.at == len(s.src) || s.src[s.at] != '=' {
		return s.fail(s.at, "a start tag is malformed")
	}
	s.at++
	s.space()
	if s.at == len(s.src) || s.src[s.at] != '"' && s.src[s.at] != '\'' {
		return s.fail(s.at, "the value of the attribute %s stands in no quotes", name)
	}
	begin := s.at + 1
	end := strings.IndexByte(s.src[begin:], s.src[s.at])
	if end < 0 {
		return s.fail(s.at, "the value of the attribute %s never ends", name)
	}
	raw := s.src[begin : begin+end]
	if strings.IndexByte(raw, '<') >= 0 {
		return s.fail(begin, "a < in the value of the attribute %s", name)
	}
	value, err := s.decode(raw, begin, true)
	if err != nil {
		return err
	}
	s.at = begin + end + 1
	s.attrs = append(s.attrs, attr{name, value, lead - from, begin - from, begin + end - from})
	return nil
}

// duplicate gives the name that two attributes have; empty for none.
func duplicate(attrs []attr) string {
	const few = 12 // so many are compared each with each
	if len(attrs) <= few {
		for i, a := range attrs {
			for _, b := range attrs[:i] {
				if a.name == b.name {
					return a.name
				}
			}
		}
		return ""
	}
	seen := make(map[string]bool, len(attrs))
	for _, a := range attrs {
		if seen[a.name] {
			return a.name
		}
		seen[a.name] = true
	}
	return ""
}
