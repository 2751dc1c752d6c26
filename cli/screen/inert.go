package screen

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// ours are the colours that the program itself writes.
var ours []string

// Inert gives a text as it can be shown: what a terminal would take as a command, and what turns
// the direction of writing, is shown as a visible escape. Line ends, tabs and, where there is
// colour, the program's own colours stay.
func (s *Screen) Inert(text string) string {
	if strings.IndexFunc(text, commands) < 0 && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, n := utf8.DecodeRuneInString(text[i:])
		switch own := s.own(text[i:]); {
		case own != "":
			b.WriteString(own)
			n = len(own)
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case commands(r) && r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case commands(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteString(text[i : i+n])
		}
		i += n
	}
	return b.String()
}

// own gives the colour of the program's own that a text begins with.
func (s *Screen) own(text string) string {
	if !s.Color || text[0] != '\x1b' {
		return ""
	}
	for _, c := range ours {
		if c != "" && strings.HasPrefix(text, c) {
			return c
		}
	}
	return ""
}

// commands reports whether a letter is none: a control character (C0, C1), or one that turns the
// direction of writing (Unicode, "Bidirectional Algorithm", explicit formatting).
func commands(r rune) bool {
	return r < 0x20 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
		r == 0x200e || r == 0x200f || r == 0x2028 || r == 0x2029
}
