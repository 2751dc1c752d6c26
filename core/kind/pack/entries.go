package pack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"fmt"
	"path"
	"slices"

	"oakenchest/core/kind"
)

var (
	_, _ kind.Container = Kind{}, Tar{}
	_, _ kind.Hushed    = Kind{}, Tar{}
)

// Entries gives the files in a package, and their attributes.
func (Kind) Entries(data []byte) (map[string]kind.Entry, error) {
	a, err := openArchive(data)
	if err != nil {
		return nil, err
	}
	out := make(map[string]kind.Entry, len(a.zip.File))
	for _, f := range a.zip.File {
		out[f.Name] = kind.Entry{Data: a.data[f.Name], Mode: f.ExternalAttrs}
	}
	return out, nil
}

// Refill gives the package with other files in it.
func (Kind) Refill(data []byte, entries map[string]kind.Entry, other []byte) ([]byte, error) {
	a, err := openArchive(data)
	if err != nil {
		return nil, err
	}
	more, err := openArchive(other)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	done := map[string]bool{}
	put := func(f *zip.File, from *archive) error {
		e, stays := entries[f.Name]
		if !stays || done[f.Name] {
			return nil
		}
		done[f.Name] = true
		if bytes.Equal(e.Data, from.data[f.Name]) && e.Mode == f.ExternalAttrs {
			return w.Copy(f)
		}
		h := f.FileHeader
		h.ExternalAttrs = e.Mode
		return addEntry(w, h, e.Data)
	}
	for _, f := range a.zip.File {
		if err := put(f, a); err != nil {
			return nil, fmt.Errorf("the part %s: %w", f.Name, err)
		}
	}
	for _, f := range more.zip.File {
		if err := put(f, more); err != nil {
			return nil, fmt.Errorf("the part %s: %w", f.Name, err)
		}
	}
	if len(done) != len(entries) {
		return nil, fmt.Errorf("%d parts are in neither package", len(entries)-len(done))
	}
	comment := a.zip.Comment
	if comment == "" {
		comment = more.zip.Comment
	}
	if err := w.SetComment(comment); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// Entries gives the files in an archive, and their modes.
func (Tar) Entries(data []byte) (map[string]kind.Entry, error) {
	records, err := openTar(data)
	if err != nil {
		return nil, err
	}
	out := make(map[string]kind.Entry, len(records))
	for _, r := range records {
		body := r.body
		if r.header.Typeflag != tar.TypeReg {
			body = []byte(r.header.Linkname)
		}
		out[r.header.Name] = kind.Entry{Data: body, Mode: uint32(r.header.Mode)}
	}
	return out, nil
}

// Refill gives the archive with other files in it.
func (Tar) Refill(data []byte, entries map[string]kind.Entry, other []byte) ([]byte, error) {
	mine, err := openTar(data)
	if err != nil {
		return nil, err
	}
	theirs, err := openTar(other)
	if err != nil {
		return nil, err
	}
	w := &tarWriter{}
	done := map[string]bool{}
	put := func(r record, from []byte) error {
		e, stays := entries[r.header.Name]
		if !stays || done[r.header.Name] {
			return nil
		}
		done[r.header.Name] = true
		regular := r.header.Typeflag == tar.TypeReg
		if uint32(r.header.Mode) == e.Mode && (!regular || bytes.Equal(e.Data, r.body)) {
			w.out.Write(from[r.from:r.end])
			w.pad()
			return nil
		}
		h := *r.header
		h.Mode = int64(e.Mode)
		if !regular {
			h.Linkname, e.Data = string(e.Data), nil
		}
		return w.bytes(h, e.Data)
	}
	for i, r := range slices.Concat(mine, theirs) {
		from := data
		if i >= len(mine) {
			from = other
		}
		if err := put(r, from); err != nil {
			return nil, err
		}
	}
	if len(done) != len(entries) {
		return nil, fmt.Errorf("%d parts are in neither archive", len(entries)-len(done))
	}
	w.out.Write(make([]byte, 1024)) // the end: two blocks of zeros
	return w.out.Bytes(), nil
}

// Hush gives the package with what is noise in its parts as another version has it.
func (k Kind) Hush(src, like kind.Source) (map[string][]byte, error) {
	return k.HushParts(src, like, func(string) bool { return false })
}

// HushParts is Hush; parts that noise names are noise as a whole.
func (k Kind) HushParts(src, like kind.Source, noise func(name string) bool) (map[string][]byte, error) {
	return hushed(k, k.table, src, like, noise)
}

// Hush gives the archive with what is noise in its parts as another version has it.
func (k Tar) Hush(src, like kind.Source) (map[string][]byte, error) {
	return k.HushParts(src, like, func(string) bool { return false })
}

// HushParts is Hush; parts that noise names are noise as a whole.
func (k Tar) HushParts(src, like kind.Source, noise func(name string) bool) (map[string][]byte, error) {
	return hushed(k, k.table, src, like, noise)
}

func hushed(c kind.Container, table *kind.Table, src, like kind.Source, noise func(string) bool) (map[string][]byte, error) {
	here, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	there, err := kind.Main(like)
	if err != nil {
		return nil, err
	}
	entries, err := c.Entries(here)
	if err != nil {
		return nil, err
	}
	others, err := c.Entries(there)
	if err != nil {
		return nil, err
	}
	for name, other := range others {
		e, both := entries[name]
		switch {
		case noise(name):
			entries[name] = other
		case both && !bytes.Equal(e.Data, other.Data):
			if data := hushedPart(table, kind.DepthOf(src)+1, src.Path()+"/"+name, e.Data, other.Data); data != nil {
				e.Data = data
				entries[name] = e
			}
		}
	}
	for name := range entries {
		if _, there := others[name]; !there && noise(name) {
			delete(entries, name)
		}
	}
	out, err := c.Refill(here, entries, there)
	if err != nil || bytes.Equal(out, here) {
		return nil, err
	}
	return map[string][]byte{src.Files()[0]: out}, nil
}

// hushedPart gives a part with the noise of another version; nil when there is none.
func hushedPart(table *kind.Table, depth int, name string, data, other []byte) []byte {
	h, ok := table.For(name, data[:min(len(data), kind.HeadSize)]).(kind.Hushed)
	if !ok || len(data) == 0 || len(other) == 0 {
		return nil
	}
	files, err := h.Hush(kind.FileSource{Name: name, Data: data, Depth: depth}, kind.FileSource{Name: name, Data: other, Depth: depth})
	if err != nil {
		return nil
	}
	return files[path.Base(name)]
}
