package pack

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/nested"
)

// Tar reads tar archives (POSIX.1-2017 pax, ustar, and the GNU forms): an entry is
// an element `part:NAME`, as in a zip package; links and devices are elements with
// what they lead to. Entries that do not change keep their bytes.
type Tar struct{ table *kind.Table }

var (
	_ kind.Writer = Tar{}
	_ kind.Holder = Tar{}
)

// Within gives the kind that reads entries by the kinds of a table.
func (Tar) Within(t *kind.Table) kind.Kind { return Tar{t} }

// Name is "tar".
func (Tar) Name() string { return "tar" }

// About describes the kind.
func (Tar) About() string { return "tar archives: parts, and what is inside each" }

// Claims takes what has a tar header at its beginning.
func (Tar) Claims(_ string, head []byte) bool {
	return len(head) >= 512 && string(head[257:262]) == "ustar"
}

// record is an entry of a tar archive with its bytes there.
type record struct {
	header     *tar.Header
	from, data int // where its headers begin, and its data
	end        int // where the next one begins
	body       []byte
}

// counted counts the bytes that a tar reader has taken.
type counted struct {
	*bytes.Reader
}

func (c counted) at() int { return int(c.Size()) - c.Len() }

func openTar(data []byte) ([]record, error) {
	in := counted{bytes.NewReader(data)}
	r := tar.NewReader(struct{ io.Reader }{in}) // without Seek, so that what is read is counted
	var out []record
	seen := map[string]bool{}
	next := 0
	for {
		h, err := r.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the tar archive is damaged: %s", strings.TrimPrefix(err.Error(), "archive/tar: "))
		}
		switch {
		case seen[h.Name]:
			return nil, fmt.Errorf("the tar archive has two entries called %q", h.Name)
		case len(out) == MaxEntries:
			return nil, fmt.Errorf("the tar archive has more than %d entries", MaxEntries)
		case h.Typeflag == tar.TypeGNUSparse:
			return nil, fmt.Errorf("the entry %q is stored with holes", h.Name)
		}
		seen[h.Name] = true
		e := record{header: h, from: next, data: in.at()}
		if h.Typeflag == tar.TypeReg {
			if e.body, err = io.ReadAll(r); err != nil {
				return nil, fmt.Errorf("the entry %q is damaged: %s", h.Name, strings.TrimPrefix(err.Error(), "archive/tar: "))
			}
			if len(e.body) != in.at()-e.data {
				return nil, fmt.Errorf("the entry %q is stored with holes", h.Name)
			}
		}
		next = e.data + (len(e.body)+511)/512*512
		e.end = min(next, len(data))
		out = append(out, e)
	}
}

// Read reads the archive and everything in it.
func (k Tar) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	records, err := openTar(data)
	if err != nil {
		return nil, err
	}
	src, budget := kind.Budgeted(src)
	if err := budget.Built(int64(len(records))); err != nil {
		return nil, err
	}
	inside := nested.NewReader(k.table, src)
	root := &element.Element{Type: "tar"}
	for _, e := range records {
		switch h := e.header; h.Typeflag {
		case tar.TypeReg:
			root.Add(inside.Element("part", h.Name, h.Name, e.body))
		case tar.TypeDir:
			root.Add(&element.Element{Type: "folder", Key: h.Name, Firm: true})
		default:
			other := &element.Element{Type: "link", Key: h.Name, Firm: true}
			other.Set("to", element.TextValue(h.Linkname))
			root.Add(other)
		}
	}
	return &kind.Reading{Root: root, Content: inside.Content(), Hidden: inside.Hidden()}, nil
}

// Write gives the archive with the wanted parts; new ones come last.
func (k Tar) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	records, err := openTar(data)
	if err != nil {
		return nil, err
	}
	have, wanted, err := compared(k, src, want)
	if err != nil || wanted == nil {
		return nil, err
	}
	w := &tarWriter{inside: nested.NewReader(k.table, src), content: kind.Contents(have.Content, content)}
	for i, r := range records {
		e := wanted[r.header.Name]
		if e == nil {
			continue
		}
		delete(wanted, r.header.Name)
		if e.Sum() == have.Root.Children[i].Sum() {
			w.out.Write(data[r.from:r.end])
			w.pad()
			continue
		}
		if err := w.entry(*r.header, from(e, have.Root.Children[i])); err != nil {
			return nil, err
		}
	}
	for _, e := range want.Children {
		if wanted[e.Key] == nil {
			continue
		}
		if err := w.entry(tar.Header{Name: e.Key, Mode: 0o644, Typeflag: tar.TypeReg}, e); err != nil {
			return nil, err
		}
	}
	w.out.Write(make([]byte, 1024)) // the end: two blocks of zeros
	return map[string][]byte{src.Files()[0]: w.out.Bytes()}, nil
}

type tarWriter struct {
	out     bytes.Buffer
	inside  *nested.Reader
	content kind.Content
}

// pad fills up the last block.
func (w *tarWriter) pad() {
	if n := w.out.Len() % 512; n > 0 {
		w.out.Write(make([]byte, 512-n))
	}
}

// entry writes an element like an entry that was there.
func (w *tarWriter) entry(h tar.Header, e *element.Element) error {
	var body []byte
	switch e.Type {
	case "folder":
		h.Typeflag, h.Mode = tar.TypeDir, 0o755
	case "link":
		h.Linkname = e.Prop("to").Text()
		if h.Typeflag == tar.TypeReg {
			h.Typeflag = tar.TypeSymlink
		}
	case "part":
		if h.Typeflag != tar.TypeReg {
			return errors.New("an entry can't become one of another sort")
		}
		var err error
		if body, err = w.inside.Bytes(e, e.Key, w.content); err != nil {
			return fmt.Errorf("the part %s: %w", e.Key, err)
		}
	}
	return w.bytes(h, body)
}

// bytes writes an entry with a body.
func (w *tarWriter) bytes(h tar.Header, body []byte) error {
	h.Size = int64(len(body))
	out := tar.NewWriter(&w.out)
	if err := out.WriteHeader(&h); err != nil {
		return err
	}
	if _, err := out.Write(body); err != nil {
		return err
	}
	return out.Flush()
}

// unpackedName gives the name that a file had before it was packed, by its ending.
func unpackedName(p string) string {
	base := path.Base(p)
	for _, end := range []string{".gz", ".gzip"} {
		if name, ok := strings.CutSuffix(base, end); ok && name != "" {
			return name
		}
	}
	if name, ok := strings.CutSuffix(base, ".tgz"); ok && name != "" {
		return name + ".tar"
	}
	return base + ".unpacked"
}
