// Package recipe reads structured documents by rules: those of a project for its
// own formats, and those that come with the program for open ones (SVG, BPMN, XMI,
// OpenDocument, Open Packaging).
//
// A kind gives the raw tree of a document. Its view has the keys and the order
// that rules say, has no noise, and has embedded content opened. People see
// views; what changes in one is carried over to the raw tree before the kind
// writes it, so that noise and encodings stay as they were.
package recipe

import (
	_ "embed" // for the rules that come with the program
	"fmt"
	"path"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/kind/nested"
	"oakenchest/core/manifest"
)

//go:embed builtin.toml
var builtin string

// Builtin gives the recipes that come with the program.
var Builtin = sync.OnceValue(func() []manifest.Recipe {
	m, err := manifest.Parse([]byte(builtin))
	if err != nil {
		panic(err)
	}
	return m.Recipes
})

// structured are the kinds whose documents recipes may speak of.
var structured = map[string]bool{"xml": true, "json": true, "yaml": true, "toml": true, "settings": true, "table": true}

// Over gives a table whose structured kinds read by the given recipes, then by
// those that come with the program.
func Over(t *kind.Table, recipes []manifest.Recipe) *kind.Table { return Watched(t, recipes, nil) }

// Watched is Over with somebody who is told how the rules fitted each document
// that is read, also those inside packages.
func Watched(t *kind.Table, recipes []manifest.Recipe, tell func(*Report)) *kind.Table {
	return t.Adapted(func(t *kind.Table, p string, k kind.Kind) kind.Kind {
		var chosen []manifest.Recipe
		for _, r := range recipes {
			if Applies(r, p) {
				chosen = append(chosen, r)
			}
		}
		for _, r := range chosen {
			if forced, ok := t.Raw(r.Kind); ok {
				k = forced
			}
		}
		if archives[k.Name()] {
			return overArchive(k, append(chosen, builtinFor(p)...), tell)
		}
		if k.Name() == "picture" {
			return overPicture(k, chosen, tell)
		}
		inner, ok := k.(kind.Writer)
		if !ok || !structured[k.Name()] {
			return k
		}
		return Kind{inner, append(chosen, builtinFor(p)...), t, tell}
	})
}

// builtinFor gives the recipes that come with the program for a path.
func builtinFor(p string) []manifest.Recipe {
	var out []manifest.Recipe
	for _, r := range Builtin() {
		if r.Match == "" || Applies(r, p) {
			out = append(out, r)
		}
	}
	return out
}

// Applies reports whether a recipe speaks of a path; it may still ask for a root.
func Applies(r manifest.Recipe, p string) bool {
	if r.Match == "" || p == "" {
		return r.Match == ""
	}
	ok, _ := doublestar.Match(r.Match, p)
	return ok
}

// Manifest reads a manifest, and refuses recipes that the kinds can't follow.
func Manifest(data []byte, t *kind.Table) (*manifest.Manifest, error) {
	m, err := manifest.Parse(data)
	if err != nil {
		return nil, err
	}
	for _, r := range m.Recipes {
		if err := check(r, t); err != nil {
			return nil, fault.New(fault.Usage, "Correct it in "+manifest.Name+".", "The recipe %q can't be used: %w.", r.Name, err)
		}
	}
	return m, nil
}

// check says what is wrong with a recipe beyond its form.
func check(r manifest.Recipe, t *kind.Table) error {
	if _, ok := t.Raw(r.Kind); r.Kind != "" && !(ok && (structured[r.Kind] || archives[r.Kind])) {
		return fmt.Errorf("it names the kind %q, which recipes can't describe", r.Kind)
	}
	for _, e := range r.Elements {
		for _, how := range e.Embedded {
			if err := nested.CheckEncoding(how); err != nil {
				return err
			}
		}
	}
	return nil
}

// Kind reads documents of another kind by recipes.
type Kind struct {
	kind.Writer
	recipes []manifest.Recipe
	table   *kind.Table
	tell    func(*Report) // nil when nobody asks
}

var _ kind.Splitter = Kind{}

// Inner gives the kind that reads the document.
func (k Kind) Inner() kind.Kind { return k.Writer }

// rules gives the rules for a document, by the type of its root element.
func (k Kind) rules(root *element.Element) *rules {
	top := root
	if root.Type == "xml" && len(root.Children) == 1 {
		top = root.Children[0]
	}
	var chosen []manifest.Recipe
	for _, r := range k.recipes {
		if r.Root == "" || stepFits(r.Root, top.Type) {
			chosen = append(chosen, r)
		}
	}
	return newRules(chosen, root.Type != "xml")
}

// Read gives the view of a document.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	r, err := k.Writer.Read(src)
	if err != nil {
		return nil, err
	}
	v := &viewer{rules: k.rules(r.Root), reader: nested.NewReader(k.table, src)}
	if k.tell != nil {
		v.rules.report = newReport(src.Path())
	}
	v.root(r.Root)
	if k.tell != nil {
		v.rules.report.finish(v.rules)
		k.tell(v.rules.report)
	}
	return &kind.Reading{Root: r.Root, Content: kind.Contents(r.Content, v.reader.Content()), Uses: r.Uses, Hidden: v.left()}, nil
}

// Write changes the document so that want is its view.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	raw := &element.Element{Type: want.Type, Ordered: want.Ordered}
	if len(data) > 0 {
		r, err := k.Writer.Read(src)
		if err != nil {
			return nil, err
		}
		raw = r.Root
	}
	origin := map[*element.Element]*element.Element{}
	have := mirror(raw, origin)
	v := &viewer{rules: k.rules(raw), reader: nested.NewReader(k.table, src)}
	v.root(have)
	want = sameType(have, want)
	d := element.Compare(have, want)
	if d == nil {
		return nil, nil
	}
	if v.former != nil && len(want.Children) > 0 {
		if err := fitsNames(have.Children[0], want.Children[0]); err != nil {
			return nil, err
		}
	}
	back := &restorer{origin: origin, reader: v.reader, content: kind.Contents(v.reader.Content(), content), former: v.former}
	changed, err := back.changed(d)
	if err != nil {
		return nil, err
	}
	return k.Writer.Write(src, changed, back.content)
}

// sameType gives want with the type of have: a document's root has no type of
// its own where it stands for content.
func sameType(have, want *element.Element) *element.Element {
	if want.Type == have.Type {
		return want
	}
	c := *want
	c.Type = have.Type
	return &c
}

// base gives the file name of a source.
func base(src kind.Source) string { return path.Base(src.Path()) }
