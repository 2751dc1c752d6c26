package disk

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"oakenchest/core/element"
)

func TestOwnRecordsAreTakenOnlyWhole(t *testing.T) {
	w := &Tree{Root: t.TempDir()}
	if err := os.MkdirAll(filepath.Join(w.Root, Folder), 0o777); err != nil {
		t.Fatal(err)
	}
	want := Journal{What: "restore", Tree: "00ff", Paths: []string{"exhibit/reef.glb", "a \"quoted\" path"}}
	if err := w.Intend(want); err != nil {
		t.Fatal(err)
	}
	var got Journal
	if err := w.ReadSealed("journal.json", &got); err != nil || !reflect.DeepEqual(got, want) {
		t.Fatalf("%+v, %v", got, err)
	}
	data, err := os.ReadFile(w.JournalFile())
	if err != nil {
		t.Fatal(err)
	}
	for i := range data {
		for bit := range 8 {
			damaged := append([]byte{}, data...)
			damaged[i] ^= 1 << bit
			if err := os.WriteFile(w.JournalFile(), damaged, 0o666); err != nil {
				t.Fatal(err)
			}
			var again Journal
			if err := w.ReadSealed("journal.json", &again); err == nil && !reflect.DeepEqual(again, want) {
				t.Fatalf("bit %d of byte %d makes another record: %s", bit, i, damaged)
			}
		}
	}
	if err := w.ReadSealed("none.json", &got); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a record that is not there: %v", err)
	}
}

func FuzzDecodeIndex(f *testing.F) {
	x := newIndex()
	x.learn("exhibit/reef.glb", Seen{Size: 7, Changed: 8, Inode: 9}, element.Digest{1})
	x.learn("oaken.toml", Seen{Size: 1}, element.Digest{2})
	f.Add(written(f, x))
	f.Add([]byte(indexMagic))
	f.Fuzz(func(t *testing.T, data []byte) {
		if x := decodeIndex(data); x != nil && !reflect.DeepEqual(decodeIndex(written(t, x)), x) {
			t.Fatal("an index that was read is written otherwise")
		}
	})
}

// written gives an index as it is written.
func written(t testing.TB, x *index) []byte {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "index"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := x.writeTo(f); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(f.Name())
	if err != nil {
		t.Fatal(err)
	}
	return data
}
