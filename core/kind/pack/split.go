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
		body, inside := takeApart(k.table, src, f.Name, file, a.data[f.Name], names)
		parts = append(append(parts, kind.Part{Name: file, Data: body}), inside...)
	}
	doc := jsondoc.Obj().Set("format", jsondoc.Str(format)).Set("entries", list)
	if sealed, says := sealOf(a.data[solution]); says {
		doc.Set("sealed", jsondoc.Truth(sealed))
	}
	return append([]kind.Part{{Name: marker, Data: jsondoc.Format(doc, "  ")}}, parts...), nil
}

// takeApart takes content out of an entry of which its kind can.
func takeApart(table *kind.Table, src kind.Source, name, file string, data []byte, names partfile.Names) ([]byte, []kind.Part) {
	entry := kind.FileSource{Name: path.Join(src.Path(), name), Data: data, Depth: kind.DepthOf(src) + 1}
	if divider, ok := table.For(entry.Name, data[:min(len(data), kind.HeadSize)]).(nested.Divider); ok {
		if body, parts, err := divider.TakeApart(entry, file, names); err == nil {
			return body, parts
		}
	}
	return data, nil
}

// Join makes a package of parts: entries in the listed order, then files that
// are not listed, by name; no dates, so that equal parts give equal bytes.
func (k Kind) Join(parts []kind.Part) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	j, err := newJoiner(k.table, parts, marker, format, func(entry *jsondoc.Node, name string, body []byte) error {
		stored := entry.Get("stored")
		return addEntry(z, plainHeader(name, stored != nil && stored.Text == "true"), body)
	})
	if err != nil {
		return nil, err
	}
	if err := j.all(); err != nil {
		return nil, err
	}
	if err := j.checkSeal(); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// solution is the part in which a package of a platform says whether it is sealed,
// for those who only use it, or open, for those who develop it.
const solution = "solution.json"

func sealOf(data []byte) (sealed, says bool) {
	doc, err := jsondoc.Parse(data)
	if err != nil {
		return false, false
	}
	n := doc.Root.Get("sealed")
	return n != nil && n.Text == "true", n != nil && n.Kind == jsondoc.Bool
}

// checkSeal refuses to make a sealed package of an open one, and the reverse: what
// a platform leaves out of the one can't be made up for the other.
func (j *joiner) checkSeal() error {
	was := j.about.Get("sealed")
	now, says := sealOf(j.files[partsPath+solution])
	if was == nil || !says || now == (was.Text == "true") {
		return nil
	}
	word := map[bool]string{true: "sealed", false: "open"}
	return fmt.Errorf("it was taken apart from %s package, and %s now says that it is %s; a platform writes other parts into the one "+
		"than into the other, so export it %s there, or set sealed back",
		map[bool]string{true: "a sealed", false: "an open"}[was.Text == "true"], solution, word[now], word[now])
}

// joiner puts entries together out of the files of a split.
type joiner struct {
	table  *kind.Table
	marker string
	about  *jsondoc.Node
	files  map[string][]byte
	used   map[string]bool
	add    func(entry *jsondoc.Node, name string, body []byte) error
}

func newJoiner(t *kind.Table, parts []kind.Part, marker, format string, add func(*jsondoc.Node, string, []byte) error) (*joiner, error) {
	j := &joiner{table: t, marker: marker, files: map[string][]byte{}, used: map[string]bool{marker: true}, add: add}
	for _, p := range parts {
		j.files[p.Name] = p.Data
	}
	doc, err := jsondoc.Parse(j.files[marker])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", marker, err)
	}
	if f := doc.Root.Get("format"); f == nil || f.Text != format {
		return nil, fmt.Errorf("%s does not say \"format\": %q", marker, format)
	}
	if entries := doc.Root.Get("entries"); entries == nil || entries.Kind != jsondoc.Array {
		return nil, errors.New(marker + " has no list of entries")
	}
	j.about = doc.Root
	return j, nil
}

// all adds the entries that are listed, then files that are not.
func (j *joiner) all() error {
	for _, it := range j.about.Get("entries").Items {
		if err := j.entry(it.Value); err != nil {
			return err
		}
	}
	return j.unlisted()
}

func (j *joiner) entry(n *jsondoc.Node) error {
	name, file := n.Get("name"), n.Get("file")
	if name == nil || name.Text == "" {
		return errors.New(j.marker + " has an entry without a name")
	}
	if file == nil {
		return j.add(n, name.Text, nil)
	}
	body, err := j.body(name.Text, file.Text)
	if err != nil {
		return err
	}
	return j.add(n, name.Text, body)
}

// body gives a file's bytes with its references resolved.
func (j *joiner) body(name, file string) ([]byte, error) {
	data, ok := j.files[file]
	if !ok {
		return nil, fmt.Errorf("%s lists the file %s, which is missing; take its entry out to leave it out", j.marker, file)
	}
	j.used[file] = true
	divider, ok := j.table.For(name, data[:min(len(data), kind.HeadSize)]).(nested.Divider)
	if !ok || !nested.Mentions(data) {
		return data, nil
	}
	return divider.PutTogether(kind.FileSource{Name: name, Data: data}, func(part string) ([]byte, error) {
		inside, ok := j.files[part]
		if !ok {
			return nil, fmt.Errorf("%s refers to the file %s, which is missing", file, part)
		}
		j.used[part] = true
		return inside, nil
	})
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
		if err := j.add(jsondoc.Obj(), strings.TrimPrefix(name, partsPath), j.files[name]); err != nil {
			return err
		}
	}
	return nil
}
