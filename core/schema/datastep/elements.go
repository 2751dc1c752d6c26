package datastep

import (
	"errors"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

// ElementType is the type of the elements that data steps are.
const ElementType = "data-step"

// Address gives the address of a step by its name, within the database.
func Address(name string) element.Address {
	return element.Address{}.Below(element.Step{Type: ElementType, Key: name})
}

// Attach adds the data steps of a folder to a tree of its schema. A step that is no text is told
// as a *declared.FileError.
func Attach(root *element.Element, files declared.Files) error {
	for _, file := range Names(files) {
		if !utf8.Valid(files[file]) {
			return &declared.FileError{File: file, Line: 1, Err: errors.New("it is not written in UTF-8")}
		}
		e := &element.Element{Type: ElementType, Key: NameOf(file), Firm: true}
		e.Set("text", element.TextValue(string(files[file])))
		root.Add(e)
	}
	return nil
}

// Without gives a tree without data steps, for those that know only of schemas.
func Without(root *element.Element) *element.Element {
	out := *root
	out.Children = nil
	for _, k := range root.Children {
		if k.Type != ElementType {
			out.Children = append(out.Children, k)
		}
	}
	if len(out.Children) == len(root.Children) {
		return root
	}
	return &out
}

// Update gives the files of data steps that differ when a folder is to hold those of a tree.
func Update(files declared.Files, want *element.Element) declared.Files {
	out, stays := declared.Files{}, map[string]bool{}
	for _, k := range want.Children {
		if k.Type != ElementType {
			continue
		}
		file := Folder + k.Key + ".sql"
		for _, have := range Names(files) { // its ending may be written otherwise
			if NameOf(have) == k.Key {
				file = have
			}
		}
		stays[file] = true
		if text := k.Prop("text").Text(); text != string(files[file]) || files[file] == nil {
			out[file] = []byte(text)
		}
	}
	for _, file := range Names(files) {
		if !stays[file] {
			out[file] = nil
		}
	}
	return out
}
