// Package apart is the kind of artifacts that stay taken apart in the workspace: a
// folder that a kind has split is read, compared and merged as the one thing that
// it is, while each part is a file that people edit and lock by itself.
package apart

import (
	"bytes"
	"errors"
	"fmt"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Kind reads folders that another kind has split.
type Kind struct {
	kind.Splitter
	writer kind.Writer
}

var (
	_ kind.Writer = Kind{}
	_ kind.Owner  = Kind{}
)

// Of gives the kind of folders that k has split; false when k can't split and write.
func Of(k kind.Kind) (kind.Owner, bool) {
	s, splits := k.(kind.Splitter)
	w, writes := k.(kind.Writer)
	return Kind{s, w}, splits && writes
}

// Owns takes every file of the folder.
func (Kind) Owns(string) bool { return true }

// Claims takes no single file.
func (Kind) Claims(string, []byte) bool { return false }

// joined puts the artifact together out of a folder.
func (k Kind) joined(src kind.Source) (kind.FileSource, []kind.Part, error) {
	var parts []kind.Part
	marked := false
	for _, name := range src.Files() {
		data, err := src.File(name)
		if err != nil {
			return kind.FileSource{}, nil, err
		}
		marked = marked || name == k.Marker()
		parts = append(parts, kind.Part{Name: name, Data: data})
	}
	if !marked {
		return kind.FileSource{}, nil, fmt.Errorf("the folder has no %s, which oaken split writes", k.Marker())
	}
	data, err := k.Join(parts)
	return kind.FileSource{Name: src.Path(), Data: data}, parts, err
}

// Read reads the folder as the artifact that it is a part of.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	whole, _, err := k.joined(src)
	if err != nil {
		return nil, err
	}
	return k.writer.Read(whole)
}

// Write gives the parts that differ once the artifact is as wanted.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	whole, have, err := k.joined(src)
	if err != nil {
		return nil, err
	}
	files, err := k.writer.Write(whole, want, content)
	if err != nil || files == nil {
		return nil, err
	}
	if len(files) != 1 {
		return nil, errors.New("the artifact would become several files")
	}
	was := whole.Data
	for _, data := range files {
		whole.Data = data
	}
	before, err := k.Split(kind.FileSource{Name: whole.Name, Data: was})
	if err != nil {
		return nil, err
	}
	parts, err := k.Split(whole)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, p := range before { // other files of the folder are nobody's part, and stay
		out[p.Name] = nil
	}
	for _, p := range parts {
		out[p.Name] = p.Data
	}
	for _, p := range have {
		if data := out[p.Name]; data != nil && bytes.Equal(data, p.Data) {
			delete(out, p.Name)
		}
	}
	return out, nil
}
