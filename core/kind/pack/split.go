package pack

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/nested"
	"oakenchest/core/kind/partfile"
)

// A split package is a folder with
//
//	oaken-package.json   the entries in their order: name, file, stored
//	parts/NAME           each entry; embedded content in it is replaced by
//	                     references: oaken-part:FILE@
//	parts/NAME.embedded/ the files that such references name, decoded
const (
	marker    = "oaken-package.json"
	format    = "oaken package 1"
	partsPath = "parts/"
)

// Marker is the file that lists the entries.
func (Kind) Marker() string { return marker }

// Split takes the package apart, one entry a file.
func (k Kind) Split(src kind.Source) ([]kind.Part, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	a, err := openArchive(data)
	if err != nil {
		return nil, err
	}
	names, list := partfile.Names{}, jsondoc.Arr()
	var parts []kind.Part
	for _, f := range a.zip.File {
		entry := jsondoc.Obj().Set("name", jsondoc.Str(f.Name))
		list.Append(entry)
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		file := partsPath + partfile.SafePath(f.Name)
		ext := path.Ext(file)
		file = names.Take(strings.TrimSuffix(file, ext), ext, f.Name)
		entry.Set("file", jsondoc.Str(file))
		if f.Method == zip.Store {
			entry.Set("stored", jsondoc.Truth(true))
		}
		body, inside := k.takeApart(src, f.Name, file, a.data[f.Name], names)
		parts = append(append(parts, kind.Part{Name: file, Data: body}), inside...)
	}
	doc := jsondoc.Obj().Set("format", jsondoc.Str(format)).Set("entries", list)
	return append([]kind.Part{{Name: marker, Data: jsondoc.Format(doc, "  ")}}, parts...), nil
}

// takeApart takes content out of an entry of which its kind can.
func (k Kind) takeApart(src kind.Source, name, file string, data []byte, names partfile.Names) ([]byte, []kind.Part) {
	entry := kind.FileSource{Name: path.Join(src.Path(), name), Data: data, Depth: kind.DepthOf(src) + 1}
	if divider, ok := k.table.For(entry.Name, data[:min(len(data), kind.HeadSize)]).(nested.Divider); ok {
		if body, parts, err := divider.TakeApart(entry, file, names); err == nil {
			return body, parts
		}
	}
	return data, nil
}

// Join makes a package of parts: entries in the listed order, then files that
// are not listed, by name; no dates, so that equal parts give equal bytes.
func (k Kind) Join(parts []kind.Part) ([]byte, error) {
	files := map[string][]byte{}
	for _, p := range parts {
		files[p.Name] = p.Data
	}
	doc, err := jsondoc.Parse(files[marker])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", marker, err)
	}
	if f := doc.Root.Get("format"); f == nil || f.Text != format {
		return nil, fmt.Errorf("%s does not say \"format\": %q", marker, format)
	}
	entries := doc.Root.Get("entries")
	if entries == nil || entries.Kind != jsondoc.Array {
		return nil, errors.New(marker + " has no list of entries")
	}
	j := &joiner{table: k.table, files: files, used: map[string]bool{marker: true}}
	j.zip = zip.NewWriter(&j.out)
	for _, it := range entries.Items {
		if err := j.entry(it.Value); err != nil {
			return nil, err
		}
	}
	if err := j.unlisted(); err != nil {
		return nil, err
	}
	if err := j.zip.Close(); err != nil {
		return nil, err
	}
	return j.out.Bytes(), nil
}

type joiner struct {
	table *kind.Table
	files map[string][]byte
	used  map[string]bool
	out   bytes.Buffer
	zip   *zip.Writer
}

func (j *joiner) entry(n *jsondoc.Node) error {
	name, file, stored := n.Get("name"), n.Get("file"), n.Get("stored")
	if name == nil || name.Text == "" {
		return errors.New(marker + " has an entry without a name")
	}
	if file == nil {
		return addEntry(j.zip, plainHeader(name.Text, true), nil)
	}
	body, err := j.body(name.Text, file.Text)
	if err != nil {
		return err
	}
	return addEntry(j.zip, plainHeader(name.Text, stored != nil && stored.Text == "true"), body)
}

// body gives a file's bytes with its references resolved.
func (j *joiner) body(name, file string) ([]byte, error) {
	data, ok := j.files[file]
	if !ok {
		return nil, fmt.Errorf("%s lists the file %s, which is missing; take its entry out to leave it out", marker, file)
	}
	j.used[file] = true
	divider, ok := j.table.For(name, data[:min(len(data), kind.HeadSize)]).(nested.Divider)
	if !ok || !nested.Mentions(data) {
		return data, nil
	}
	out, err := divider.PutTogether(kind.FileSource{Name: name, Data: data}, func(part string) ([]byte, error) {
		inside, ok := j.files[part]
		if !ok {
			return nil, fmt.Errorf("%s refers to the file %s, which is missing", file, part)
		}
		j.used[part] = true
		return inside, nil
	})
	return out, err
}

func (j *joiner) unlisted() error {
	var rest []string
	for name := range j.files {
		if !j.used[name] && strings.HasPrefix(name, partsPath) && !strings.Contains(path.Dir(name), ".embedded") {
			rest = append(rest, name)
		}
	}
	slices.Sort(rest)
	for _, name := range rest {
		if err := addEntry(j.zip, plainHeader(strings.TrimPrefix(name, partsPath), false), j.files[name]); err != nil {
			return err
		}
	}
	return nil
}
