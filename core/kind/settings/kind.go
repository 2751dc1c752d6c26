// Package settings is the kind of settings files: TOML 1.0, and the family of INI
// files with sections and entries (also .properties, .desktop, .editorconfig).
//
// A section is an element, its entries are properties; in TOML, sections lie in
// each other, and arrays of tables are lists. A change touches the entry that it
// is about and nothing else: comments, order, spaces and quotes stay.
package settings

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// MaxSize bounds, in bytes, a settings file.
const MaxSize = 16 << 20

// Kind reads settings of one syntax; see TOML and INI.
type Kind struct {
	syntax
	name, about string
	endings     []string
	// typ and kidType are the types of the root and of what lies in it.
	typ, kidType string
}

var _ kind.Writer = Kind{}

// TOML is the kind of TOML files.
func TOML() Kind {
	return Kind{tomlSyntax{}, "toml", "TOML: tables as elements, keys as properties", []string{".toml"}, "object", "object"}
}

// INI is the kind of files with sections and entries.
func INI() Kind {
	return Kind{iniSyntax{}, "settings", "INI, properties and desktop files: sections, with their entries as properties",
		[]string{".ini", ".properties", ".desktop", ".editorconfig", ".cfg"}, "settings", "section"}
}

// Name is "toml" or "settings".
func (k Kind) Name() string { return k.name }

// About describes the kind.
func (k Kind) About() string { return k.about }

// Claims takes files by their endings.
func (k Kind) Claims(p string, _ []byte) bool {
	return slices.Contains(k.endings, strings.ToLower(path.Ext(p)))
}

func (k Kind) open(src kind.Source) (*document, *element.Element, places, error) {
	data, err := kind.Main(src)
	switch {
	case err != nil:
		return nil, nil, nil, err
	case len(data) > MaxSize:
		return nil, nil, nil, errors.New("it is longer than " + element.SizeText(MaxSize))
	case !utf8.Valid(data):
		return nil, nil, nil, errors.New("it is not UTF-8 text")
	}
	doc, err := k.parse(string(data))
	if err != nil {
		return nil, nil, nil, err
	}
	at := places{}
	root, err := doc.tree(k.typ, k.kidType, at)
	return doc, root, at, err
}

// Weigh counts lines and the values of lists. Keys of TOML are compared with all others of their table.
func (k Kind) Weigh(data []byte) int64 {
	if _, compares := k.syntax.(tomlSyntax); compares {
		const each = 20 // as much as so many elements
		return each * kind.Count(data, "\n")
	}
	return kind.Count(data, "\n,[{")
}

// Read reads the file.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	_, root, _, err := k.open(src)
	if err != nil {
		return nil, err
	}
	return &kind.Reading{Root: root}, nil
}

// Write changes the file into the wanted tree. A change that the format has no
// place for is an error.
func (k Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	doc, have, at, err := k.open(src)
	if err != nil {
		return nil, err
	}
	d := element.Compare(have, asCalled(want))
	if d == nil {
		return nil, nil
	}
	w := &editor{syntax: k.syntax, doc: doc, at: at, done: map[*entry]bool{}}
	out, err := w.rewrite(d)
	if err != nil {
		return nil, err
	}
	name := src.Files()[0]
	_, again, _, err := k.open(kind.FileSource{Name: name, Data: []byte(out)})
	if err != nil || element.Compare(again, asRoot(have, want)) != nil {
		return nil, fmt.Errorf("the change can't be written into the file as it is laid out")
	}
	return map[string][]byte{name: []byte(out)}, nil
}

// asCalled gives a tree with the keys that things had, where it says so: what is called otherwise is written where it
// stands.
func asCalled(want *element.Element) *element.Element {
	c := *want
	if c.Former != "" {
		c.Key = c.Former
	}
	c.Children = make([]*element.Element, len(want.Children))
	for i, k := range want.Children {
		c.Children[i] = asCalled(k)
	}
	return &c
}

// asRoot gives want with the type of have.
func asRoot(have, want *element.Element) *element.Element {
	c := *want
	c.Type = have.Type
	return &c
}
