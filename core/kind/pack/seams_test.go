package pack

import (
	"archive/zip"
	"bytes"
	"fmt"
	"testing"
)

// archiveOf writes entries, some with data descriptors and some without.
func archiveOf(t testing.TB, n int) []byte {
	t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for i := range n {
		body := bytes.Repeat([]byte(fmt.Sprint("entry ", i, " ")), 50*i)
		h := &zip.FileHeader{Name: fmt.Sprintf("textures/%d.bin", i)}
		if i%2 == 0 {
			h.Method = zip.Deflate
			w, err := z.CreateHeader(h) // writes a descriptor
			if err != nil {
				t.Fatal(err)
			}
			_, _ = w.Write(body)
			continue
		}
		h.CompressedSize64, h.UncompressedSize64 = uint64(len(body)), uint64(len(body))
		w, err := z.CreateRaw(h)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write(body)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

func TestSeamsAreWhereRecordsBegin(t *testing.T) {
	data := archiveOf(t, 9)
	seams := Kind{}.Seams(bytes.NewReader(data), int64(len(data)))
	if len(seams) != 9 { // the first entry begins the file, the directory ends it
		t.Fatalf("%d seams: %v", len(seams), seams)
	}
	for i, at := range seams {
		want := "PK\x03\x04"
		if i == len(seams)-1 {
			want = "PK\x01\x02"
		}
		if got := string(data[at:min(at+4, int64(len(data)))]); got != want {
			t.Errorf("seam %d at %d: %q", i, at, got)
		}
	}
}

func FuzzSeams(f *testing.F) {
	f.Add(archiveOf(f, 3))
	f.Fuzz(func(t *testing.T, data []byte) {
		last := int64(-1)
		for _, at := range (Kind{}).Seams(bytes.NewReader(data), int64(len(data))) {
			if at <= last {
				t.Fatalf("seam at %d after %d", at, last)
			}
			last = at
		}
	})
}
