package pack

//lint:file-ignore SA1019 the date as the format has it is copied, or set to its least; Modified would add an extra field

import (
	"archive/zip"
	"bytes"
	"fmt"
	"hash/crc32"
	"strings"

	"github.com/klauspost/compress/flate"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/nested"
)

// Write gives the package with the wanted parts. Entries that stay keep their
// place and their compressed bytes; new ones come last.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	a, err := openArchive(data)
	if err != nil {
		return nil, err
	}
	have, wanted, err := compared(k, src, want)
	if err != nil || wanted == nil {
		return nil, err
	}
	all := kind.Contents(have.Content, content)
	inside := nested.NewReader(k.table, src)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for i, f := range a.zip.File {
		e := wanted[f.Name]
		if e == nil {
			continue
		}
		delete(wanted, f.Name)
		if e.Sum() == have.Root.Children[i].Sum() {
			err = w.Copy(f)
		} else {
			var body []byte
			if body, err = inside.Bytes(from(e, have.Root.Children[i]), f.Name, all); err == nil {
				err = addEntry(w, f.FileHeader, body)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("the part %s: %w", f.Name, err)
		}
	}
	for _, e := range want.Children {
		if wanted[e.Key] == nil {
			continue
		}
		var body []byte
		if e.Type != "folder" {
			if body, err = inside.Bytes(e, e.Key, all); err != nil {
				return nil, fmt.Errorf("the part %s: %w", e.Key, err)
			}
		}
		if err := addEntry(w, plainHeader(e.Key, false), body); err != nil {
			return nil, err
		}
	}
	if err := w.SetComment(a.zip.Comment); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return map[string][]byte{src.Files()[0]: out.Bytes()}, nil
}

// from gives a wanted part with the bytes behind it that it has in this archive: what is not
// about the change stays as it is here, whoever made the change.
func from(want, have *element.Element) *element.Element {
	if have.Origin == (element.Digest{}) || !have.Prop(nested.KindProperty).Equal(want.Prop(nested.KindProperty)) {
		return want
	}
	c := *want
	c.Origin = have.Origin
	return &c
}

// compared reads an archive, and gives the wanted parts by their names; none when the
// archive is as wanted.
func compared(k kind.Kind, src kind.Source, want *element.Element) (*kind.Reading, map[string]*element.Element, error) {
	have, err := k.Read(src)
	if err != nil || have.Root.Sum() == want.Sum() {
		return nil, nil, err
	}
	wanted := make(map[string]*element.Element, len(want.Children))
	for _, e := range want.Children {
		wanted[e.Key] = e
	}
	return have, wanted, nil
}

// plainHeader gives the header of an entry without a date: 1 January 1980, the
// least that the format can say.
func plainHeader(name string, stored bool) zip.FileHeader {
	h := zip.FileHeader{Name: name, Method: zip.Deflate, ModifiedDate: 1<<5 | 1}
	if stored || strings.HasSuffix(name, "/") {
		h.Method = zip.Store
	}
	return h
}

// addEntry writes an entry with sizes and sum before its bytes, so that readers
// that do not seek can read it.
func addEntry(w *zip.Writer, like zip.FileHeader, body []byte) error {
	h := zip.FileHeader{Name: like.Name, Comment: like.Comment, Method: like.Method, ModifiedDate: like.ModifiedDate,
		ModifiedTime:   like.ModifiedTime,
		CreatorVersion: like.CreatorVersion, ExternalAttrs: like.ExternalAttrs, ReaderVersion: 20}
	packed := body
	if h.Method == zip.Deflate {
		var b bytes.Buffer
		c, err := flate.NewWriter(&b, flate.DefaultCompression)
		if err != nil {
			return err
		}
		if _, err := c.Write(body); err != nil {
			return err
		}
		if err := c.Close(); err != nil {
			return err
		}
		packed = b.Bytes()
	} else {
		h.Method = zip.Store
	}
	for _, c := range []byte(h.Name) {
		if c >= 0x80 {
			h.Flags |= 0x800 // the name is UTF-8
			break
		}
	}
	h.CRC32 = crc32.ChecksumIEEE(body)
	h.CompressedSize64, h.UncompressedSize64 = uint64(len(packed)), uint64(len(body))
	out, err := w.CreateRaw(&h)
	if err != nil {
		return err
	}
	_, err = out.Write(packed)
	return err
}
