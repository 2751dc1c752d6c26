package element

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Step leads from an element to one of its children.
type Step struct {
	Type string
	Key  string
	// Ordinal, from 1, counts the keyless siblings of the type; 0 for a keyed step.
	Ordinal int
}

// Address names an artifact, an element in it, or a property of that element:
//
//	PATH
//	PATH::type:key/type:key
//	PATH::type:key.property
//
// A keyless element is written `type:#3`. Paths, keys and names that hold a
// delimiter are quoted, with the escapes of a JSON string.
type Address struct {
	Path     string
	Steps    []Step
	Property string
}

// InPath gives the same address with another path.
func (a Address) InPath(path string) Address { a.Path = path; return a }

// Below gives the address of a child.
func (a Address) Below(s Step) Address {
	a.Steps = append(a.Steps[:len(a.Steps):len(a.Steps)], s)
	a.Property = ""
	return a
}

// Of gives the address of a property of the element at a.
func (a Address) Of(property string) Address { a.Property = property; return a }

// Whole reports whether a names a whole artifact.
func (a Address) Whole() bool { return len(a.Steps) == 0 && a.Property == "" }

// String writes the address so that ParseAddress reads it back.
func (a Address) String() string {
	var b strings.Builder
	b.WriteString(quotePath(a.Path))
	if a.Whole() {
		return b.String()
	}
	b.WriteString("::")
	for i, s := range a.Steps {
		if i > 0 {
			b.WriteByte('/')
		}
		b.WriteString(s.String())
	}
	if a.Property != "" {
		b.WriteByte('.')
		b.WriteString(quoteName(a.Property))
	}
	return b.String()
}

// String writes one step: `type:key` or `type:#ordinal`.
func (s Step) String() string {
	if s.Ordinal > 0 {
		return quoteName(s.Type) + ":#" + strconv.Itoa(s.Ordinal)
	}
	return quoteName(s.Type) + ":" + quoteName(s.Key)
}

func quotePath(p string) string {
	if strings.Contains(p, "::") || strings.HasPrefix(p, `"`) || strings.HasSuffix(p, ":") || !plain(p) {
		return quote(p)
	}
	return p
}

func quoteName(s string) string {
	if s == "" || s[0] == '#' || s[0] == ' ' || s[len(s)-1] == ' ' || strings.ContainsAny(s, `:/."\`) || !plain(s) {
		return quote(s)
	}
	return s
}

func plain(s string) bool {
	if !utf8.ValidString(s) {
		return false
	}
	for _, r := range s {
		if unicode.IsControl(r) || r == utf8.RuneError {
			return false
		}
	}
	return true
}

func quote(s string) string { return strconv.Quote(s) }

// ParseAddress reads what Address.String writes. It never panics; an error says
// what is wrong and at which character.
func ParseAddress(s string) (Address, error) {
	p := parser{src: s}
	var a Address
	if strings.HasPrefix(s, `"`) {
		path, err := p.quoted()
		if err != nil {
			return a, err
		}
		a.Path = path
	} else {
		end := strings.Index(s, "::")
		if end < 0 {
			end = len(s)
		}
		a.Path, p.at = s[:end], end
	}
	if a.Path == "" {
		return a, fmt.Errorf("the address %q names no artifact", s)
	}
	if p.at == len(s) {
		return a, nil
	}
	if !strings.HasPrefix(s[p.at:], "::") {
		return a, p.fail("expected ::")
	}
	p.at += 2
	for p.at < len(s) && s[p.at] != '.' {
		step, err := p.step()
		if err != nil {
			return a, err
		}
		a.Steps = append(a.Steps, step)
		if p.at < len(s) && s[p.at] == '/' {
			if p.at++; p.at == len(s) {
				return a, p.fail("expected a step after /")
			}
			continue
		}
		break
	}
	if p.at < len(s) && s[p.at] == '.' {
		p.at++
		name, err := p.name("/:")
		if err != nil {
			return a, err
		}
		a.Property = name
	}
	if p.at != len(s) {
		return a, p.fail("unexpected text")
	}
	if a.Whole() {
		return a, p.fail("expected a step type:key after ::")
	}
	return a, nil
}

type parser struct {
	src string
	at  int
}

func (p *parser) fail(what string) error {
	return fmt.Errorf("%s at character %d of the address %q", what, utf8.RuneCountInString(p.src[:p.at])+1, p.src)
}

func (p *parser) step() (Step, error) {
	var s Step
	typ, err := p.name("./")
	if err != nil {
		return s, err
	}
	s.Type = typ
	if p.at == len(p.src) || p.src[p.at] != ':' {
		return s, p.fail("expected type:key")
	}
	p.at++
	if p.at < len(p.src) && p.src[p.at] == '#' {
		p.at++
		start := p.at
		for p.at < len(p.src) && p.src[p.at] >= '0' && p.src[p.at] <= '9' {
			p.at++
		}
		n, err := strconv.Atoi(p.src[start:p.at])
		if err != nil || n < 1 {
			return s, p.fail("expected a number from 1 after #")
		}
		s.Ordinal = n
		return s, nil
	}
	s.Key, err = p.name(":")
	return s, err
}

// name reads a quoted or a bare word; forbidden lists delimiters that may not
// follow a bare word here.
func (p *parser) name(forbidden string) (string, error) {
	if p.at < len(p.src) && p.src[p.at] == '"' {
		return p.quoted()
	}
	start := p.at
	for p.at < len(p.src) && !strings.ContainsRune(`:/."\`, rune(p.src[p.at])) {
		p.at++
	}
	word := p.src[start:p.at]
	if word == "" {
		return "", p.fail("expected a name")
	}
	if p.at < len(p.src) && strings.ContainsRune(forbidden+`"\`, rune(p.src[p.at])) {
		return "", p.fail(fmt.Sprintf("%q must be inside quotes", p.src[p.at]))
	}
	return word, nil
}

func (p *parser) quoted() (string, error) {
	q, err := strconv.QuotedPrefix(p.src[p.at:])
	if err != nil || q[0] != '"' {
		return "", p.fail("a quote is not closed, or an escape is wrong,")
	}
	s, err := strconv.Unquote(q)
	if err != nil {
		return "", p.fail("an escape is wrong")
	}
	p.at += len(q)
	return s, nil
}

// stepsOf gives each child its step: keyed, or by ordinal among the keyless of
// its type.
func stepsOf(kids []*Element) []Step {
	steps := make([]Step, len(kids))
	count := map[string]int{}
	for i, k := range kids {
		steps[i] = Step{Type: k.Type, Key: k.Key}
		if k.Key == "" {
			count[k.Type]++
			steps[i].Ordinal = count[k.Type]
		}
	}
	return steps
}

// Steps gives the address steps of e's children, in their order.
func (e *Element) Steps() []Step { return stepsOf(e.Children) }
