package charset_test

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf16"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
)

// wide writes text in UTF-16 with a byte-order mark.
func wide(s string, big bool) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune("\ufeff" + s)) {
		if big {
			out = append(out, byte(u>>8), byte(u))
		} else {
			out = append(out, byte(u), byte(u>>8))
		}
	}
	return out
}

func TestTextInOtherEncodingsIsReadAndWrittenInThem(t *testing.T) {
	latin := func(s string) []byte { return []byte(strings.ReplaceAll(s, "ü", "\xfc")) }
	for name, c := range map[string]struct {
		data, want []byte
		kind       string
	}{
		"note.txt":   {latin("Für alle\r\nAm Abend\r\n"), latin("Für alle\r\nAm Morgen\r\n"), "text"},
		"a.csv":      {wide("id,name\r\n1,Rüschen\r\n2,Abend\r\n", false), wide("id,name\r\n1,Rüschen\r\n2,Morgen\r\n", false), "table"},
		"a.json":     {wide("{\"für\": \"Abend\"}\n", true), wide("{\"für\": \"Morgen\"}\n", true), "json"},
		"b.ini":      {latin("[Küche]\nwann = Abend\n"), latin("[Küche]\nwann = Morgen\n"), "settings"},
		"c.yaml":     {latin("für: Abend # ü\n"), latin("für: Morgen # ü\n"), "yaml"},
		"utf8.txt":   {[]byte("Für alle am Abend\n"), []byte("Für alle am Morgen\n"), "text"},
		"cut-off.md": {[]byte(strings.Repeat("x", 4095) + "ü Abend\n"), []byte(strings.Repeat("x", 4095) + "ü Morgen\n"), "text"},
	} {
		k := all.Table().For(name, c.data[:min(len(c.data), kind.HeadSize)])
		if k.Name() != c.kind {
			t.Errorf("%s is %s", name, k.Name())
			continue
		}
		a, err := k.Read(kind.FileSource{Name: name, Data: c.data})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		b, err := k.Read(kind.FileSource{Name: name, Data: c.want})
		if err != nil || len(element.Compare(a.Root, b.Root).Changes("x")) != 1 {
			t.Errorf("%s: %v", name, err)
			continue
		}
		files, err := k.(kind.Writer).Write(kind.FileSource{Name: name, Data: c.data}, b.Root, nil)
		if err != nil || !bytes.Equal(files[name], c.want) {
			t.Errorf("%s: %v\n%q\nwant\n%q", name, err, files[name], c.want)
		}
	}
}

func TestBytesAreNotTakenForText(t *testing.T) {
	for _, data := range [][]byte{[]byte("\x00\x01\x02\x03"), []byte("\xff\xfe\x00\x00a\x00\x00\x00"), []byte("\x80\x81\x82\x83 text"),
		[]byte("\xe4\xf6\xfc\xe4\xf6\xfc")} {
		if k := all.Table().For("x.txt", data); k.Name() != "opaque" {
			t.Errorf("%q is %s", data, k.Name())
		}
	}
	k := all.Table().For("x.txt", []byte("Abend f\xfcr alle"))
	r, err := k.Read(kind.FileSource{Name: "x.txt", Data: []byte("Abend f\xfcr alle")})
	if err != nil {
		t.Fatal(err)
	}
	r.Root.Children[0].Set("text", element.TextValue("Abend für 魚"))
	if _, err := k.(kind.Writer).Write(kind.FileSource{Name: "x.txt", Data: []byte("Abend f\xfcr alle")}, r.Root, nil); err == nil ||
		!strings.Contains(err.Error(), "no place") {
		t.Errorf("a character without a place: %v", err)
	}
}

func FuzzCharset(f *testing.F) {
	f.Add([]byte("F\xfcr alle, am Abend\n"))
	f.Add(wide("Reef\n", false))
	table := all.Table()
	f.Fuzz(func(t *testing.T, data []byte) {
		src := kind.FileSource{Name: "x.txt", Data: data}
		k := table.For(src.Name, data[:min(len(data), kind.HeadSize)])
		r, used, why := table.Read(k, src)
		w, writes := used.(kind.Writer)
		if why != nil || !writes {
			return
		}
		if files, err := w.Write(src, r.Root, r.Content); err != nil || len(files) != 0 && !bytes.Equal(files["x.txt"], data) {
			t.Fatalf("%s changed %q into %q: %v", used.Name(), data, files["x.txt"], err)
		}
	})
}
