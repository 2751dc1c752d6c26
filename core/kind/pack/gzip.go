package pack

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/nested"
)

// Gzip reads files that are packed alone (RFC 1952), of at most kind.MaxFile bytes
// unpacked: the only part is what was packed, and its own kind reads it.
type Gzip struct{ table *kind.Table }

var (
	_ kind.Writer   = Gzip{}
	_ kind.Splitter = Gzip{}
	_ kind.Holder   = Gzip{}
)

// Within gives the kind that reads what is packed by the kinds of a table.
func (Gzip) Within(t *kind.Table) kind.Kind { return Gzip{t} }

// Name is "gzip".
func (Gzip) Name() string { return "gzip" }

// About describes the kind.
func (Gzip) About() string { return "files packed by gzip: what is inside" }

// Claims takes what begins like a gzip file.
func (Gzip) Claims(_ string, head []byte) bool { return bytes.HasPrefix(head, []byte("\x1f\x8b\x08")) }

func openGzip(src kind.Source) (gzip.Header, []byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return gzip.Header{}, nil, err
	}
	_, budget := kind.Budgeted(src)
	limit := min(budget.Left(), kind.MaxFile)
	in := bytes.NewReader(data)
	r, err := gzip.NewReader(in)
	if err != nil {
		return gzip.Header{}, nil, fmt.Errorf("the gzip file is damaged: %s", strings.TrimPrefix(err.Error(), "gzip: "))
	}
	r.Multistream(false)
	body, err := io.ReadAll(io.LimitReader(r, limit+1))
	spent := budget.Decoded(int64(len(body))) // also what was unpacked in vain
	switch {
	case err != nil:
		return gzip.Header{}, nil, fmt.Errorf("the gzip file is damaged: %s", strings.TrimPrefix(err.Error(), "gzip: "))
	case int64(len(body)) > limit:
		return gzip.Header{}, nil, kind.Unpacks(limit)
	case in.Len() > 0:
		return gzip.Header{}, nil, errors.New("something follows behind the packed file")
	}
	return r.Header, body, spent
}

// Read reads what is packed.
func (k Gzip) Read(src kind.Source) (*kind.Reading, error) {
	src, _ = kind.Budgeted(src)
	h, body, err := openGzip(src)
	if err != nil {
		return nil, err
	}
	inside := nested.NewReader(k.table, src)
	name := unpackedName(src.Path())
	root := &element.Element{Type: "gzip"}
	if h.Name != "" {
		root.Set("name", element.TextValue(h.Name))
	}
	root.Add(inside.Element("part", "content", name, body))
	return &kind.Reading{Root: root, Content: inside.Content(), Hidden: inside.Hidden()}, nil
}

// Write packs what is wanted.
func (k Gzip) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	h, _, err := openGzip(src)
	if err != nil {
		return nil, err
	}
	have, wanted, err := compared(k, src, want)
	if err != nil || wanted == nil {
		return nil, err
	}
	if len(want.Children) != 1 {
		return nil, errors.New("a gzip file holds one file")
	}
	body, err := nested.NewReader(k.table, src).Bytes(from(want.Children[0], have.Root.Children[0]), unpackedName(src.Path()),
		kind.Contents(have.Content, content))
	if err != nil {
		return nil, err
	}
	h.Name = want.Prop("name").Text()
	out, err := packed(h, body)
	return map[string][]byte{src.Files()[0]: out}, err
}

func packed(h gzip.Header, body []byte) ([]byte, error) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Header = h
	_, err := w.Write(body)
	err = errors.Join(err, w.Close())
	return b.Bytes(), err
}

// A split gzip file is a folder with oaken-gzip.json, which names what was packed,
// and inside/, which holds that: a file, or a folder when that is split too.
const (
	gzipMarker = "oaken-gzip.json"
	gzipFormat = "oaken gzip 1"
	insidePath = "inside/"
)

// Marker is the file that says that a folder is a split gzip file.
func (Gzip) Marker() string { return gzipMarker }

// Split unpacks the file, and takes it apart where its kind can.
func (k Gzip) Split(src kind.Source) ([]kind.Part, error) {
	h, body, err := openGzip(src)
	if err != nil {
		return nil, err
	}
	inner := kind.FileSource{Name: src.Path() + "/" + unpackedName(src.Path()), Data: body, Depth: kind.DepthOf(src) + 1}
	about := jsondoc.Obj().Set("format", jsondoc.Str(gzipFormat))
	if h.Name != "" {
		about.Set("name", jsondoc.Str(h.Name))
	}
	out := []kind.Part{{Name: gzipMarker}}
	if s, ok := k.table.For(inner.Name, body[:min(len(body), kind.HeadSize)]).(kind.Splitter); ok {
		if parts, err := s.Split(inner); err == nil {
			for _, p := range parts {
				out = append(out, kind.Part{Name: insidePath + p.Name, Data: p.Data})
			}
			about.Set("kind", jsondoc.Str(s.Name()))
		}
	}
	if len(out) == 1 {
		out = append(out, kind.Part{Name: insidePath + "content", Data: body})
	}
	out[0].Data = jsondoc.Format(about, "  ")
	return out, nil
}

// Join packs what Split has unpacked, without a date.
func (k Gzip) Join(parts []kind.Part) ([]byte, error) {
	var about *jsondoc.Doc
	var inner []kind.Part
	for _, p := range parts {
		if p.Name == gzipMarker {
			doc, err := jsondoc.Parse(p.Data)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", gzipMarker, err)
			}
			about = doc
		} else if name, ok := strings.CutPrefix(p.Name, insidePath); ok {
			inner = append(inner, kind.Part{Name: name, Data: p.Data})
		}
	}
	if about == nil || about.Root.Get("format") == nil || about.Root.Get("format").Text != gzipFormat {
		return nil, fmt.Errorf("%s does not say \"format\": %q", gzipMarker, gzipFormat)
	}
	var h gzip.Header
	if n := about.Root.Get("name"); n != nil {
		h.Name = n.Text
	}
	word := about.Root.Get("kind")
	if word == nil {
		if len(inner) != 1 {
			return nil, errors.New("a gzip file holds one file")
		}
		return packed(h, inner[0].Data)
	}
	used, _ := k.table.Named(word.Text)
	s, ok := used.(kind.Splitter)
	if !ok {
		return nil, fmt.Errorf("%s names the kind %q, which puts nothing together", gzipMarker, word.Text)
	}
	body, err := s.Join(inner)
	if err != nil {
		return nil, err
	}
	return packed(h, body)
}
