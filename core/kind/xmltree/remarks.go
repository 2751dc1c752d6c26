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
func (Kind) Remarks(data []byte) []kind.Remark {
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
	found []kind.Remark
	above int    // where those begin that wait for an element
	last  string // the element that ended last
	ended int    // where it did
	open  []string
}

func (l *listener) other(from, to int) {
	if strings.HasPrefix(l.src[from:to], "<?xml ") { // it says how the file is written
		return
	}
	r := kind.Remark{Text: strings.ReplaceAll(l.src[from:to], "\r\n", "\n")}
	if between := l.src[l.ended:from]; l.last != "" && blank(between) && !strings.Contains(between, "\n") && to < len(l.src) &&
		strings.HasPrefix(strings.TrimLeft(l.src[to:], " \t\r"), "\n") {
		r.Of = "behind " + l.last
		l.found = append(l.found[:len(l.found):len(l.found)], r)
		if l.above == len(l.found)-1 {
			l.above = len(l.found)
		}
		return
	}
	l.found = append(l.found, r)
}

// settle says of remarks that wait what they are about.
func (l *listener) settle(of string) {
	for ; l.above < len(l.found); l.above++ {
		if l.found[l.above].Of == "" {
			l.found[l.above].Of = of
		}
	}
}

func (l *listener) startTag(name string, attrs []attr, from, to int, closed bool) error {
	l.references(l.src[from:to])
	l.settle(name + " " + keyOf(attrs))
	if closed {
		l.last, l.ended = name+" "+keyOf(attrs), to
	} else {
		l.open = append(l.open, name+" "+keyOf(attrs))
	}
	return nil
}

func (l *listener) endTag(_ string, _, to int) error {
	if n := len(l.open) - 1; n >= 0 {
		l.settle("end of " + l.open[n])
		l.last, l.ended, l.open = l.open[n], to, l.open[:n]
	}
	return nil
}

func (l *listener) text(_ string, from, to int) error {
	if strings.HasPrefix(l.src[from:to], "<![CDATA[") {
		l.found = append(l.found, kind.Remark{Text: "<![CDATA["})
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
			l.found = append(l.found, kind.Remark{Text: ref})
		}
	}
}
