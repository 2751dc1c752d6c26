package jsondoc

import (
	"fmt"
	"unsafe"
)

// shared gives bytes that nobody changes any more as text, without a copy: the
// texts in a large document are parts of its bytes.
func shared(data []byte) string { return unsafe.String(unsafe.SliceData(data), len(data)) }

// Visitor is told what a document holds, from its beginning to its end. A scalar
// or a container follows each Member.
type Visitor interface {
	// Begin and End stand around what is in an Object or an Array.
	Begin(Kind) error
	Member(name string) error
	Scalar(kind Kind, text string) error
	End() error
}

// Walk reads a document without keeping it. Errors are those of Parse.
func Walk(data []byte, v Visitor) error {
	p := &reader{src: shared(data)}
	if len(p.src) >= 3 && p.src[:3] == "\ufeff" {
		p.at = 3
	}
	p.space()
	if err := p.walk(v, 0); err != nil {
		return err
	}
	if p.space(); p.at != len(p.src) {
		return p.fail("unexpected text after the end")
	}
	return nil
}

func (p *reader) walk(v Visitor, depth int) error {
	if depth > MaxDepth {
		return p.fail("it is nested too deeply")
	}
	if p.at < len(p.src) && (p.src[p.at] == '{' || p.src[p.at] == '[') {
		return p.walkContainer(v, depth)
	}
	n, err := p.value(depth)
	if err != nil {
		return err
	}
	return v.Scalar(n.Kind, n.Text)
}

func (p *reader) walkContainer(v Visitor, depth int) error {
	kind, end := Array, byte(']')
	if p.src[p.at] == '{' {
		kind, end = Object, '}'
	}
	begin := p.at
	p.at++
	if err := v.Begin(kind); err != nil {
		return err
	}
	var names seen
	for first := true; ; first = false {
		p.space()
		if first && p.at < len(p.src) && p.src[p.at] == end {
			p.at++
			return v.End()
		}
		if kind == Object {
			var it Item
			if err := p.key(&it); err != nil {
				return err
			}
			if names.add(it.Key) {
				return p.fail(fmt.Sprintf("the member %q stands twice in one object", it.Key))
			}
			if err := v.Member(it.Key); err != nil {
				return err
			}
		}
		if err := p.walk(v, depth+1); err != nil {
			return err
		}
		p.space()
		if p.at == len(p.src) {
			p.at = begin
			return p.fail("what begins here is never closed")
		}
		p.at++
		switch p.src[p.at-1] {
		case ',':
		case end:
			return v.End()
		default:
			p.at--
			return p.fail(fmt.Sprintf("expected , or %c", end))
		}
	}
}

// seen is a set of names: a list while there are few.
type seen struct {
	list []string
	set  map[string]bool
}

// add reports whether the name was there already.
func (s *seen) add(name string) bool {
	const few = 12
	if s.set != nil {
		if s.set[name] {
			return true
		}
		s.set[name] = true
		return false
	}
	for _, n := range s.list {
		if n == name {
			return true
		}
	}
	if s.list = append(s.list, name); len(s.list) > few {
		s.set = make(map[string]bool, 2*few)
		for _, n := range s.list {
			s.set[n] = true
		}
	}
	return false
}
