package postgres

import (
	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

// Update gives the files that differ when the folder that d was read from becomes
// what want says; see declared.Update.
func Update(files declared.Files, d *Declared, want *element.Element) declared.Files {
	have := map[string]*element.Element{}
	if d.Root != nil {
		for _, o := range objects(d.Root) {
			have[o.id()] = own(o.e)
		}
	}
	list, elements := written(want)
	same := func(id string) bool { return have[id] != nil && have[id].Sum() == own(elements[id]).Sum() }
	return declared.Update(files, d.Places, list, same, empty)
}

// Anew writes all files of want, in place of those that can't be read together.
func Anew(files declared.Files, want *element.Element) declared.Files {
	list, _ := written(want)
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

// written lists the objects that have text of their own, with their files.
func written(want *element.Element) ([]declared.Object, map[string]*element.Element) {
	elements := map[string]*element.Element{}
	sequenceOf := map[string]string{}
	all := objects(want)
	for _, o := range all {
		elements[o.id()] = o.e
		for _, c := range kids(o.e, "column") {
			if seq := textOf(c, "sequence"); seq != "" {
				sequenceOf["sequence "+seq], _ = o.file(nil)
			}
		}
	}
	var list, sequences []declared.Object
	for _, o := range all {
		file, shared := o.file(sequenceOf)
		item := declared.Object{ID: o.id(), File: file, Shared: shared, Text: o.SQL}
		if sequenceOf[o.id()] != "" {
			sequences = append(sequences, item)
		} else {
			list = append(list, item)
		}
	}
	return append(list, sequences...), elements
}

// empty says that a text declares nothing.
func empty(text string) bool {
	list, err := Dialect.Statements(text)
	return err == nil && len(list) == 0
}
