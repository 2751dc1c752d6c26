package postgres

import (
	"bytes"
	"encoding/gob"

	"oakenchest/core/element"
)

// keptFormat is raised whenever elements of a catalog come out otherwise.
const keptFormat = 1

// kept is a catalog as it is kept between calls.
type kept struct {
	Format  int
	Root    keptElement
	Columns map[string][]string
}

type keptElement struct {
	Type, Key, Gist string
	Flags           byte // 1 ordered, 2 firm
	Names, Values   []string
	True            []string
	Kids            []keptElement
}

// Keep writes a catalog for Kept, without what is needed of a live one.
func (c *Catalog) Keep() ([]byte, error) {
	var b bytes.Buffer
	err := gob.NewEncoder(&b).Encode(kept{keptFormat, keep(c.Root), c.Columns})
	return b.Bytes(), err
}

func keep(e *element.Element) keptElement {
	k := keptElement{Type: e.Type, Key: e.Key, Gist: e.Gist, Kids: make([]keptElement, len(e.Children))}
	if e.Ordered {
		k.Flags |= 1
	}
	if e.Firm {
		k.Flags |= 2
	}
	for _, p := range e.Props {
		if p.Value.Sort() == element.Bool {
			k.True = append(k.True, p.Name)
			continue
		}
		k.Names = append(k.Names, p.Name)
		k.Values = append(k.Values, p.Value.Text())
	}
	for i, c := range e.Children {
		k.Kids[i] = keep(c)
	}
	return k
}

// Kept reads what Keep wrote; ok is false for anything else.
func Kept(data []byte) (c *Catalog, ok bool) {
	var k kept
	if gob.NewDecoder(bytes.NewReader(data)).Decode(&k) != nil || k.Format != keptFormat {
		return nil, false
	}
	return &Catalog{Root: k.Root.element(), Columns: k.Columns}, true
}

func (k keptElement) element() *element.Element {
	e := &element.Element{Type: k.Type, Key: k.Key, Gist: k.Gist, Ordered: k.Flags&1 != 0, Firm: k.Flags&2 != 0}
	for i, name := range k.Names {
		e.Props = append(e.Props, element.Prop{Name: name, Value: element.TextValue(k.Values[i])})
	}
	for _, name := range k.True {
		e.Props = append(e.Props, element.Prop{Name: name, Value: element.BoolValue(true)})
	}
	for _, c := range k.Kids {
		e.Children = append(e.Children, c.element())
	}
	return e
}
