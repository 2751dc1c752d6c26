// Package pack is the kind of zip packages: OpenDocument, Open Packaging
// (office files), jar-like archives, app packages of XML and JSON.
//
// An entry is an element `part:NAME`. An entry that another kind reads has that
// kind's elements inside; base64 text (RFC 4648) inside those is opened, as a
// value that stands for bytes or as an element `embedded:PROPERTY` with elements
// of its own. Entries that do not change keep their compressed bytes.
//
// Damaged or encrypted archives, two entries of one name, and archives that
// unpack to more than MaxUnpacked bytes are refused.
package pack

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Limits of an archive.
const (
	MaxUnpacked = 1 << 30
	MaxEntries  = 200_000
	// maxNesting bounds packages inside packages.
	maxNesting = 4
)

// Kind reads zip packages; Table gives the kinds of the entries.
type Kind struct {
	Table func() *kind.Table
	depth int
}

var (
	_ kind.Writer   = Kind{}
	_ kind.Splitter = Kind{}
)

// Name is "package".
func (Kind) Name() string { return "package" }

// About describes the kind.
func (Kind) About() string {
	return "zip packages, OpenDocument and Open Packaging among them: parts, and what is inside each"
}

// Claims takes what begins like a zip archive.
func (Kind) Claims(_ string, head []byte) bool {
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
}

// archive is an opened package.
type archive struct {
	zip  *zip.Reader
	data map[string][]byte // unpacked entries
}

func openArchive(data []byte) (*archive, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("the zip archive is damaged: %s", strings.TrimPrefix(err.Error(), "zip: "))
	}
	if len(z.File) > MaxEntries {
		return nil, fmt.Errorf("the zip archive has %d entries, more than %d", len(z.File), MaxEntries)
	}
	a := &archive{z, make(map[string][]byte, len(z.File))}
	left := int64(MaxUnpacked)
	for _, f := range z.File {
		if _, twice := a.data[f.Name]; twice {
			return nil, fmt.Errorf("the zip archive has two entries called %q", f.Name)
		}
		if f.Flags&1 != 0 {
			return nil, fmt.Errorf("the entry %q is encrypted", f.Name)
		}
		body, err := unpack(f, left)
		if err != nil {
			return nil, fmt.Errorf("the entry %q is damaged: %s", f.Name, strings.TrimPrefix(err.Error(), "zip: "))
		}
		left -= int64(len(body))
		a.data[f.Name] = body
	}
	return a, nil
}

func unpack(f *zip.File, limit int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var b bytes.Buffer
	n, err := io.Copy(&b, io.LimitReader(r, limit+1))
	if err == nil && n > limit {
		err = errors.New("the archive unpacks to more than " + element.SizeText(MaxUnpacked))
	}
	return b.Bytes(), err
}

// Read reads the package and everything in it.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	a, err := openArchive(data)
	if err != nil {
		return nil, err
	}
	held := map[element.Digest][]byte{}
	root := &element.Element{Type: "package", Gist: a.flavour()}
	for _, f := range a.zip.File {
		if strings.HasSuffix(f.Name, "/") {
			root.Add(&element.Element{Type: "folder", Key: f.Name, Firm: true})
			continue
		}
		root.Add(k.part("part", f.Name, f.Name, a.data[f.Name], held))
	}
	return &kind.Reading{Root: root, Content: kind.Held(held)}, nil
}

// flavour says which convention the package follows.
func (a *archive) flavour() string {
	if m, ok := a.data["mimetype"]; ok && len(m) < 200 {
		return strings.TrimSpace(string(m))
	}
	if _, ok := a.data["[Content_Types].xml"]; ok {
		return "Open Packaging"
	}
	if _, ok := a.data["META-INF/MANIFEST.MF"]; ok {
		return "jar"
	}
	return "zip"
}

const (
	kindProperty    = "(kind)"
	contentProperty = "content"
)

// part gives the element of some bytes: with the elements of the kind that
// reads them inside, or with the bytes as a value.
func (k Kind) part(typ, key, path string, data []byte, held map[element.Digest][]byte) *element.Element {
	d := element.DigestOf(data)
	held[d] = data
	e := &element.Element{Type: typ, Key: key, Firm: true, Origin: d, Gist: element.SizeText(int64(len(data)))}
	used, root := k.nested(path, data, held)
	if root == nil {
		e.Set(contentProperty, element.BytesValue(d, int64(len(data))))
		return e
	}
	e.Gist = used.Name() + ", " + e.Gist
	e.Props = append([]element.Prop{{Name: kindProperty, Value: element.TextValue(used.Name())}}, root.Props...)
	e.Children, e.Ordered = root.Children, root.Ordered
	return e
}

// nested reads bytes with the kind that claims them; root is nil when nothing
// but their size is to be said.
func (k Kind) nested(path string, data []byte, held map[element.Digest][]byte) (kind.Writer, *element.Element) {
	used, ok := k.Table().For(path, data[:min(len(data), kind.HeadSize)]).(kind.Writer)
	if !ok || len(data) == 0 {
		return nil, nil
	}
	if inner, same := used.(Kind); same {
		if k.depth >= maxNesting {
			return nil, nil
		}
		inner.depth = k.depth + 1
		used = inner
	}
	r, err := used.Read(kind.FileSource{Name: path, Data: data})
	if err != nil || len(r.Uses) > 0 {
		return nil, nil
	}
	if _, same := used.(Kind); !same {
		k.openEmbedded(r.Root, held)
	}
	collect(r, r.Root, held)
	return used, r.Root
}

// collect takes the bytes behind values and origins over into held.
func collect(r *kind.Reading, e *element.Element, held map[element.Digest][]byte) {
	if r.Content == nil {
		return
	}
	take := func(d element.Digest) {
		if data, ok := r.Content(d); ok {
			held[d] = data
		}
	}
	take(e.Origin)
	for _, p := range e.Props {
		if p.Value.Sort() == element.Bytes {
			d, _ := p.Value.Content()
			take(d)
		}
	}
	for _, c := range e.Children {
		collect(r, c, held)
	}
}
