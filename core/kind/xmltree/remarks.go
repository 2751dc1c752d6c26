package xmltree

import (
	"regexp"
	"strings"

	"oakenchest/core/kind"
)

var _ kind.Remarker = Kind{}

// named finds references to entities other than the five that XML has itself.
var named = regexp.MustCompile(`&[A-Za-z_][\w.-]*;`)

var own = map[string]bool{"&lt;": true, "&gt;": true, "&amp;": true, "&quot;": true, "&apos;": true}

// Remarks lists comments, processing instructions, the document type, references to
// entities, and that text stands in a CDATA section.
func (Kind) Remarks(data []byte) []string {
	text, _, err := decoded(data)
	if err != nil {
		return nil
	}
	l := &listener{src: shared(text)}
	_ = (&scanner{src: l.src, to: l}).run() // what is broken was said elsewhere
	return l.found
}

// listener hears of what is no element.
type listener struct {
	src   string
	found []string
}

func (l *listener) other(from, to int) { l.found = append(l.found, l.src[from:to]) }

func (l *listener) startTag(_ string, _ []attr, from, to int, _ bool) error {
	l.references(l.src[from:to])
	return nil
}

func (l *listener) endTag(string, int, int) error { return nil }

func (l *listener) text(_ string, from, to int) error {
	if strings.HasPrefix(l.src[from:to], "<![CDATA[") {
		l.found = append(l.found, "<![CDATA[")
		return nil
	}
	l.references(l.src[from:to])
	return nil
}

func (l *listener) references(raw string) {
	if strings.IndexByte(raw, '&') < 0 {
		return
	}
	for _, ref := range named.FindAllString(raw, -1) {
		if !own[ref] {
			l.found = append(l.found, ref)
		}
	}
}
