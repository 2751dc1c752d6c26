package postgres

import (
	"cmp"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

// Update gives the files that differ when the folder that d was read from becomes
// what want says; see declared.Update. A sequence that goes with a column stands in
// the text of its table.
func Update(files declared.Files, d *Declared, want *element.Element) declared.Files {
	have, places := map[string]*element.Element{}, map[string][]declared.Place{}
	holder := map[string]string{}
	if d.Root != nil {
		all := objects(d.Root)
		holder = holders(all)
		for _, o := range all {
			have[o.id()] = own(o.e)
		}
		for id, list := range d.Places {
			at := id
			if h := holder[id]; h != "" {
				at = h
			}
			places[at] = append(places[at], list...)
		}
	}
	for _, list := range places {
		slices.SortFunc(list, func(a, b declared.Place) int {
			return cmp.Or(strings.Compare(a.File, b.File), a.From-b.From)
		})
	}
	list, elements, held := written(want)
	alike := func(id string) bool {
		return have[id] != nil && elements[id] != nil && have[id].Sum() == own(elements[id]).Sum()
	}
	same := func(id string) bool {
		for _, seq := range held[id] {
			if !alike(seq) || holder[seq] != id {
				return false
			}
		}
		return alike(id)
	}
	was := func(string) string { return "" }
	if d.Root != nil {
		before, _, _ := written(d.Root)
		was = declared.Texts(before)
	}
	return declared.Update(Dialect, files, places, list, same, was, empty)
}

// holders gives the identity of the table whose column each owned sequence goes with.
func holders(all []object) map[string]string {
	out := map[string]string{}
	for _, o := range all {
		for _, c := range kids(o.e, "column") {
			if seq := textOf(c, "sequence"); seq != "" {
				out["sequence "+seq] = o.id()
			}
		}
	}
	return out
}

// Anew writes all files of want, in place of those that can't be read together.
func Anew(files declared.Files, want *element.Element) declared.Files {
	list, _, _ := written(want)
	return declared.Anew(files, list)
}

// own is an element without the objects in it: a schema's own properties.
func own(e *element.Element) *element.Element {
	if e.Type != "schema" {
		return e
	}
	c := *e
	c.Children = nil
	return &c
}

// written lists the objects that have text of their own, with their files; elements
// has all by identity, held the sequences in each table's text.
func written(want *element.Element) (list []declared.Object, elements map[string]*element.Element, held map[string][]string) {
	elements, held = map[string]*element.Element{}, map[string][]string{}
	all := objects(want)
	byID := map[string]object{}
	for _, o := range all {
		elements[o.id()], byID[o.id()] = o.e, o
	}
	holder := holders(all)
	for seq, table := range holder {
		if byID[seq].e != nil {
			held[table] = append(held[table], seq)
		}
	}
	for _, o := range all {
		id := o.id()
		if holder[id] != "" {
			continue
		}
		slices.Sort(held[id])
		file, shared := o.file()
		list = append(list, declared.Object{ID: id, File: file, Shared: shared, Text: func() string {
			text := ""
			for _, seq := range held[id] {
				text += byID[seq].SQL() + "\n"
			}
			return text + o.SQL()
		}})
	}
	return list, elements, held
}

// empty says that a text declares nothing.
func empty(text string) bool {
	list, err := Dialect.Statements(text)
	return err == nil && len(list) == 0
}
