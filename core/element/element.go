package element

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash"
	"slices"
	"strings"
)

// Prop is a named value.
type Prop struct {
	Name  string
	Value Value
}

// Element is an addressable thing inside an artifact.
type Element struct {
	Type string
	// Key is the stable identity among siblings of one type; empty when the
	// format gives none.
	Key   string
	Props []Prop
	// Children holds what is inside. Siblings of one type have distinct keys
	// (see Distinguish) or none.
	Children []*Element
	// Ordered says that the order of Children carries meaning.
	Ordered bool
	// Firm says that the key is the thing itself: another key is another
	// thing, and no rename is ever guessed.
	Firm bool
	// Gist is one line for people that says what this is. It takes no part in
	// identity, comparison or merging.
	Gist string
	// Former is the key that this had, where its source says so; like Gist, it is no part of
	// identity. What goes under that key while this comes is told as renamed.
	Former string
	// Origin is the digest of the bytes that this element was read from, when a
	// kind keeps them apart; zero for none. Like Gist, it is no part of identity.
	Origin Digest
}

// Prop gives the value of the named property, Absent when there is none.
func (e *Element) Prop(name string) Value {
	for _, p := range e.Props {
		if p.Name == name {
			return p.Value
		}
	}
	return Value{}
}

// Set gives the named property a value; an Absent value takes it away.
func (e *Element) Set(name string, v Value) {
	for i, p := range e.Props {
		if p.Name == name {
			if v.IsAbsent() {
				e.Props = slices.Delete(slices.Clone(e.Props), i, i+1)
				return
			}
			e.Props = slices.Clone(e.Props)
			e.Props[i].Value = v
			return
		}
	}
	if !v.IsAbsent() {
		e.Props = append(e.Props, Prop{name, v})
	}
}

// Add appends children and gives e back.
func (e *Element) Add(kids ...*Element) *Element {
	e.Children = append(e.Children, kids...)
	return e
}

// Clone copies e and everything below it.
func (e *Element) Clone() *Element {
	c := *e
	c.Props = slices.Clone(e.Props)
	c.Children = make([]*Element, len(e.Children))
	for i, k := range e.Children {
		c.Children[i] = k.Clone()
	}
	return &c
}

// Summary says on one line what e is: its gist, else its first properties.
func (e *Element) Summary() string {
	if e.Gist != "" {
		return e.Gist
	}
	const most = 3
	var parts []string
	for i, p := range e.Props {
		if i == most {
			parts = append(parts, "…")
			break
		}
		text := p.Name + " " + p.Value.String()
		if p.Name == "text" {
			text = p.Value.String()
		}
		parts = append(parts, text)
	}
	if n := e.Count() - 1; len(parts) == 0 && n > 0 {
		for _, k := range e.Children {
			if s := k.Summary(); s != "" {
				return s
			}
		}
	}
	return strings.Join(parts, ", ")
}

// Count gives the number of elements in the tree, e included.
func (e *Element) Count() int {
	n := 1
	for _, k := range e.Children {
		n += k.Count()
	}
	return n
}

// Find gives the element at the end of steps below e, or nil.
func (e *Element) Find(steps []Step) *Element {
	for _, s := range steps {
		i := childAt(e.Children, s)
		if i < 0 {
			return nil
		}
		e = e.Children[i]
	}
	return e
}

func childAt(kids []*Element, s Step) int {
	n := 0
	for i, k := range kids {
		if k.Type != s.Type {
			continue
		}
		if s.Ordinal == 0 && k.Key == s.Key && k.Key != "" {
			return i
		}
		if s.Ordinal > 0 && k.Key == "" {
			if n++; n == s.Ordinal {
				return i
			}
		}
	}
	return -1
}

// Distinguish makes the keys of siblings of one type distinct, in place: the
// second "Lamp" becomes "Lamp~2". Readers call it before they give a tree out.
func Distinguish(kids []*Element) {
	type id struct{ typ, key string }
	seen := make(map[id]bool, len(kids))
	last := map[id]int{} // the number that was given to a key last: the lower ones stay taken
	for _, k := range kids {
		if k.Key == "" {
			continue
		}
		key := k.Key
		if seen[id{k.Type, key}] {
			n := max(last[id{k.Type, k.Key}], 1)
			for seen[id{k.Type, key}] {
				n++
				key = fmt.Sprintf("%s~%d", k.Key, n)
			}
			last[id{k.Type, k.Key}] = n
		}
		k.Key = key
		seen[id{k.Type, key}] = true
	}
}

// doubled reports whether Distinguish made a key.
func doubled(key string) bool {
	i := strings.LastIndexByte(key, '~')
	return i > 0 && i+1 < len(key) && strings.Trim(key[i+1:], "0123456789") == ""
}

// rootKey gives the key that Distinguish has made another of; others as they are.
func rootKey(key string) string {
	if doubled(key) {
		return key[:strings.LastIndexByte(key, '~')]
	}
	return key
}

// Dump prints the tree, one element a line, for tests and for tracing.
func (e *Element) Dump() string {
	var b strings.Builder
	dump(&b, e, 0)
	return b.String()
}

func dump(b *strings.Builder, e *Element, depth int) {
	fmt.Fprintf(b, "%s%s:%s", strings.Repeat("  ", depth), e.Type, e.Key)
	for _, p := range e.Props {
		fmt.Fprintf(b, " %s=%q", p.Name, p.Value.String())
	}
	b.WriteByte('\n')
	for _, k := range e.Children {
		dump(b, k, depth+1)
	}
}

// digests remembers the two digests of each element while one comparison runs.
type digests map[*Element]digestPair

// digestPair: whole covers everything; body leaves the element's own key out.
type digestPair struct{ whole, body Digest }

// Sum gives the digest of the tree: equal for equal trees, whatever the order
// of properties and of the children of a set.
func (e *Element) Sum() Digest { return digests{}.of(e).whole }

func (m digests) of(e *Element) digestPair {
	if p, ok := m[e]; ok {
		return p
	}
	h := sha256.New()
	props := slices.Clone(e.Props)
	slices.SortFunc(props, func(a, b Prop) int { return strings.Compare(a.Name, b.Name) })
	writeText(h, e.Type)
	writeCount(h, len(props))
	for _, p := range props {
		writeText(h, p.Name)
		writeValue(h, p.Value)
	}
	sums := make([]Digest, len(e.Children))
	for i, k := range e.Children {
		sums[i] = m.of(k).whole
	}
	order := byte('o') // of fewer than two children the order says nothing
	if !e.Ordered || len(sums) < 2 {
		order = 's'
		slices.SortFunc(sums, func(a, b Digest) int { return slices.Compare(a[:], b[:]) })
	}
	h.Write([]byte{order})
	writeCount(h, len(sums))
	for _, s := range sums {
		h.Write(s[:])
	}
	var p digestPair
	h.Sum(p.body[:0])
	h.Reset()
	writeText(h, e.Key)
	h.Write(p.body[:])
	h.Sum(p.whole[:0])
	m[e] = p
	return p
}

func writeCount(h hash.Hash, n int) {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], uint64(n))
	h.Write(b[:])
}

func writeText(h hash.Hash, s string) {
	writeCount(h, len(s))
	h.Write([]byte(s))
}

func writeValue(h hash.Hash, v Value) {
	h.Write([]byte{byte(v.sort)})
	switch v.sort {
	case Number:
		writeText(h, canonicalNumber(v.text))
	case List:
		writeCount(h, len(v.rest().list))
		for _, it := range v.rest().list {
			writeValue(h, it)
		}
	case Bytes:
		writeCount(h, int(v.rest().size))
		h.Write(v.rest().digest[:])
	default:
		writeText(h, v.text)
	}
}
