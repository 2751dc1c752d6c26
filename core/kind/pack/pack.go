// Package pack is the kinds of what holds files: zip packages (OpenDocument, Open
// Packaging, jar-like archives, app packages of XML and JSON), tar archives, and
// files packed by gzip.
//
// An entry is an element `part:NAME`. An entry that another kind reads has that
// kind's elements inside. Entries that do not change keep their compressed bytes.
//
// Damaged or encrypted archives, two entries of one name, and archives that
// unpack to more than their budget are refused.
package pack

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/nested"
)

// MaxEntries bounds the files in an archive.
const MaxEntries = 200_000

// Kind reads zip packages, and their entries by the kinds of a table.
type Kind struct{ table *kind.Table }

var (
	_ kind.Writer   = Kind{}
	_ kind.Splitter = Kind{}
	_ kind.Holder   = Kind{}
)

// Within gives the kind that reads entries by the kinds of a table.
func (Kind) Within(t *kind.Table) kind.Kind { return Kind{t} }

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

// documents are the endings of packages that programs for documents write.
var documents = []string{".odt", ".ods", ".odp", ".odg", ".ott", ".ots", ".otp", ".docx", ".docm", ".dotx", ".xlsx", ".xlsm", ".xltx",
	".pptx", ".pptm", ".potx"}

var _ kind.Mechanical = Kind{}

// Mechanical says it of documents.
func (Kind) Mechanical(p string) bool {
	return slices.Contains(documents, strings.ToLower(path.Ext(p)))
}

// archive is an opened package.
type archive struct {
	zip  *zip.Reader
	data map[string][]byte // unpacked entries
}

func openArchive(data []byte) (*archive, error) {
	return openWithin(data, kind.NewBudget(int64(len(data))))
}

// openWithin is openArchive within the budget of the artifact that the package is, or lies in.
func openWithin(data []byte, b *kind.Budget) (*archive, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("the zip archive is damaged: %s", strings.TrimPrefix(err.Error(), "zip: "))
	}
	if len(z.File) > MaxEntries {
		return nil, fmt.Errorf("the zip archive has %d entries, more than %d", len(z.File), MaxEntries)
	}
	a := &archive{z, make(map[string][]byte, len(z.File))}
	if err := b.Built(int64(len(z.File))); err != nil {
		return nil, err
	}
	for _, f := range z.File {
		if _, twice := a.data[f.Name]; twice {
			return nil, fmt.Errorf("the zip archive has two entries called %q", f.Name)
		}
		if f.Flags&1 != 0 {
			return nil, fmt.Errorf("the entry %q is encrypted", f.Name)
		}
		body, err := unpack(f, b.Left())
		spent := b.Decoded(int64(len(body))) // also what was unpacked in vain
		if err != nil {
			return nil, fmt.Errorf("the entry %q is damaged: %s", f.Name, strings.TrimPrefix(err.Error(), "zip: "))
		}
		if spent != nil {
			return nil, spent
		}
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
	if size := f.UncompressedSize64; size < 1<<26 { // what it says of itself, and the room that ReadFrom wants at the end
		b.Grow(int(size) + bytes.MinRead)
	}
	n, err := b.ReadFrom(io.LimitReader(r, limit+1))
	if err == nil && n > limit {
		err = kind.Unpacks(limit)
	}
	return b.Bytes(), err
}

// Read reads the package and everything in it.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	src, budget := kind.Budgeted(src)
	a, err := openWithin(data, budget)
	if err != nil {
		return nil, err
	}
	inside := nested.NewReader(k.table, src)
	root := &element.Element{Type: "package", Gist: a.flavour()}
	for _, f := range a.zip.File {
		if strings.HasSuffix(f.Name, "/") {
			root.Add(&element.Element{Type: "folder", Key: f.Name, Firm: true})
			continue
		}
		root.Add(inside.Element("part", f.Name, f.Name, a.data[f.Name]))
	}
	return &kind.Reading{Root: root, Content: inside.Content(), Hidden: inside.Hidden()}, nil
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
