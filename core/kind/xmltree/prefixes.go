package xmltree

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/kind"
)

var _ kind.Examiner = Kind{}

// Flaws lists prefixes that no declaration binds (Namespaces in XML 1.0, section 5).
func (Kind) Flaws(data []byte) []string {
	text, _, err := decoded(data)
	if err != nil {
		return nil
	}
	p := &prefixes{}
	_ = (&scanner{src: shared(text), to: p}).run() // what is broken was said elsewhere
	return p.found
}

// prefixes hears of names and of the declarations that are in force.
type prefixes struct {
	bound [][]string // by open element
	found []string
}

func (p *prefixes) other(int, int) {}

func (p *prefixes) text(string, int, int) error { return nil }

func (p *prefixes) startTag(name string, attrs []attr, _, _ int, closed bool) error {
	var here []string
	for _, a := range attrs {
		if prefix, ok := strings.CutPrefix(a.name, "xmlns:"); ok {
			here = append(here, prefix)
		}
	}
	p.bound = append(p.bound, here)
	p.use(name)
	for _, a := range attrs {
		p.use(a.name)
	}
	if closed {
		p.bound = p.bound[:len(p.bound)-1]
	}
	return nil
}

func (p *prefixes) endTag(string, int, int) error {
	if len(p.bound) > 0 {
		p.bound = p.bound[:len(p.bound)-1]
	}
	return nil
}

func (p *prefixes) use(name string) {
	prefix, _, ok := strings.Cut(name, ":")
	if !ok || prefix == "xml" || prefix == "xmlns" ||
		slices.ContainsFunc(p.bound, func(b []string) bool { return slices.Contains(b, prefix) }) {
		return
	}
	if flaw := fmt.Sprintf("the prefix %s is bound to no namespace", prefix); !slices.Contains(p.found, flaw) {
		p.found = append(p.found, flaw)
	}
}
