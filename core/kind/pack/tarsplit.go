package pack

import (
	"archive/tar"
	"bytes"
	"path"
	"strconv"
	"strings"

	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/partfile"
)

// A split tar archive is laid out like a split package; its entries also say
// their rights, and what links lead to.
const (
	tarMarker = "oaken-tar.json"
	tarFormat = "oaken tar 1"
)

var _ kind.Splitter = Tar{}

// Marker is the file that lists the entries.
func (Tar) Marker() string { return tarMarker }

// Split takes the archive apart, one entry a file.
func (k Tar) Split(src kind.Source) ([]kind.Part, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	records, err := openTar(data)
	if err != nil {
		return nil, err
	}
	names, list := partfile.Names{}, jsondoc.Arr()
	var parts []kind.Part
	for _, r := range records {
		h := r.header
		entry := jsondoc.Obj().Set("name", jsondoc.Str(h.Name)).Set("rights", jsondoc.Str(strconv.FormatInt(h.Mode&0o7777, 8)))
		list.Append(entry)
		switch h.Typeflag {
		case tar.TypeDir:
			continue
		case tar.TypeReg:
		default:
			entry.Set("sort", jsondoc.Str(string(h.Typeflag))).Set("to", jsondoc.Str(h.Linkname))
			continue
		}
		file := partsPath + partfile.SafePath(h.Name)
		ext := path.Ext(file)
		file = names.Take(strings.TrimSuffix(file, ext), ext, h.Name)
		entry.Set("file", jsondoc.Str(file))
		body, inside := takeApart(k.table, src, h.Name, file, r.body, names)
		parts = append(append(parts, kind.Part{Name: file, Data: body}), inside...)
	}
	doc := jsondoc.Obj().Set("format", jsondoc.Str(tarFormat)).Set("entries", list)
	return append([]kind.Part{{Name: tarMarker, Data: jsondoc.Format(doc, "  ")}}, parts...), nil
}

// Join makes an archive of parts, without dates and owners, so that equal parts
// give equal bytes.
func (k Tar) Join(parts []kind.Part) ([]byte, error) {
	var out bytes.Buffer
	t := tar.NewWriter(&out)
	j, err := newJoiner(k.table, parts, tarMarker, tarFormat, func(entry *jsondoc.Node, name string, body []byte) error {
		h := &tar.Header{Name: name, Size: int64(len(body)), Mode: 0o644, Typeflag: tar.TypeReg}
		if rights := entry.Get("rights"); rights != nil {
			if n, err := strconv.ParseInt(rights.Text, 8, 32); err == nil {
				h.Mode = n
			}
		}
		if sort := entry.Get("sort"); sort != nil && len(sort.Text) == 1 {
			h.Typeflag = sort.Text[0]
			if to := entry.Get("to"); to != nil {
				h.Linkname = to.Text
			}
		} else if entry.Get("file") == nil && entry.Get("name") != nil {
			h.Typeflag = tar.TypeDir
		}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		_, err := t.Write(body)
		return err
	})
	if err != nil {
		return nil, err
	}
	if err := j.all(); err != nil {
		return nil, err
	}
	err = t.Close()
	return out.Bytes(), err
}
