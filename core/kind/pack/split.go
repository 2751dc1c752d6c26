package pack

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/partfile"
)

// A split package is a folder with
//
//	oaken-package.json   the entries in their order: name, file, stored
//	parts/NAME           each entry; embedded base64 text in it is replaced by
//	                     oaken-part:FILE@
//	parts/NAME.embedded/ the files that such references name, decoded
const (
	marker    = "oaken-package.json"
	format    = "oaken package 1"
	partsPath = "parts/"
	reference = "oaken-part:"
)

var referencePattern = regexp.MustCompile(regexp.QuoteMeta(reference) + `([^@\n]*)@`)

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
		body, inside := k.extract(f.Name, file, a.data[f.Name], names)
		parts = append(append(parts, kind.Part{Name: file, Data: body}), inside...)
	}
	doc := jsondoc.Obj().Set("format", jsondoc.Str(format)).Set("entries", list)
	return append([]kind.Part{{Name: marker, Data: jsondoc.Format(doc, "  ")}}, parts...), nil
}

// extract takes embedded content out of an entry. What can't be found literally
// in the bytes stays where it is.
func (k Kind) extract(name, file string, data []byte, names partfile.Names) ([]byte, []kind.Part) {
	used := k.Table().For(name, data[:min(len(data), kind.HeadSize)])
	if used.Name() != "xml" && used.Name() != "json" || bytes.Contains(data, []byte(reference)) {
		return data, nil
	}
	r, err := used.Read(kind.FileSource{Name: name, Data: data})
	if err != nil {
		return data, nil
	}
	text := string(data)
	var parts []kind.Part
	var visit func(e *element.Element, owner string)
	visit = func(e *element.Element, owner string) {
		if e.Key != "" {
			owner = e.Key
		}
		for _, p := range e.Props {
			body, ext, ok := decodeEmbedded(p.Value.Text())
			if p.Value.Sort() != element.Text || !ok || !strings.Contains(text, p.Value.Text()) {
				continue
			}
			base := file + ".embedded/" + partfile.Safe(strings.Trim(owner+"-"+p.Name, "-"))
			at := names.Take(base, ext, p.Value.Text())
			text = strings.Replace(text, p.Value.Text(), reference+at+"@", 1)
			parts = append(parts, kind.Part{Name: at, Data: body})
		}
		for _, c := range e.Children {
			visit(c, owner)
		}
	}
	visit(r.Root, "")
	return []byte(text), parts
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
	j := &joiner{files: files, used: map[string]bool{marker: true}}
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
	body, err := j.body(file.Text)
	if err != nil {
		return err
	}
	return addEntry(j.zip, plainHeader(name.Text, stored != nil && stored.Text == "true"), body)
}

// body gives a file's bytes with its references resolved.
func (j *joiner) body(file string) ([]byte, error) {
	data, ok := j.files[file]
	if !ok {
		return nil, fmt.Errorf("%s lists the file %s, which is missing; take its entry out to leave it out", marker, file)
	}
	j.used[file] = true
	var missing error
	out := referencePattern.ReplaceAllFunc(data, func(m []byte) []byte {
		name := string(referencePattern.FindSubmatch(m)[1])
		inside, ok := j.files[name]
		if !ok {
			missing = fmt.Errorf("%s refers to the file %s, which is missing", file, name)
		}
		j.used[name] = true
		return []byte(base64.StdEncoding.EncodeToString(inside))
	})
	return out, missing
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
