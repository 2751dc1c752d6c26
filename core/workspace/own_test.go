package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"oakenchest/core/element"
)

func TestOwnRecordsAreTakenOnlyWhole(t *testing.T) {
	w := &Workspace{Root: t.TempDir()}
	if err := os.MkdirAll(filepath.Join(w.Root, Folder), 0o777); err != nil {
		t.Fatal(err)
	}
	want := journal{What: "restore", Tree: "00ff", Paths: []string{"exhibit/reef.glb", "a \"quoted\" path"}}
	if err := w.intend(want); err != nil {
		t.Fatal(err)
	}
	var got journal
	if err := w.readSealed("journal.json", &got); err != nil || !reflect.DeepEqual(got, want) {
		t.Fatalf("%+v, %v", got, err)
	}
	data, err := os.ReadFile(w.journalFile())
	if err != nil {
		t.Fatal(err)
	}
	for i := range data {
		for bit := range 8 {
			damaged := append([]byte{}, data...)
			damaged[i] ^= 1 << bit
			if err := os.WriteFile(w.journalFile(), damaged, 0o666); err != nil {
				t.Fatal(err)
			}
			var again journal
			if err := w.readSealed("journal.json", &again); err == nil && !reflect.DeepEqual(again, want) {
				t.Fatalf("bit %d of byte %d makes another record: %s", bit, i, damaged)
			}
		}
	}
	if err := w.readSealed("none.json", &got); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a record that is not there: %v", err)
	}
}

func TestTheWorkspaceRecordCarriesItsSum(t *testing.T) {
	want := record{Format: formatVersion, Person: "Imke", Name: "imke-desk-reef", Chest: "/shared/reef", Branch: "main", Base: "00", Only: []string{"exhibit/**"}}
	data, err := want.encode()
	if err != nil {
		t.Fatal(err)
	}
	read, err := decodeRecord(data)
	read.Sum = ""
	if err != nil || !reflect.DeepEqual(read, want) {
		t.Fatalf("%+v, %v", read, err)
	}
	for i := range data {
		damaged := append([]byte{}, data...)
		damaged[i] ^= 4
		if got, err := decodeRecord(damaged); err == nil {
			if got.Sum = ""; !reflect.DeepEqual(got, want) && got.Format <= formatVersion {
				t.Fatalf("byte %d makes another record: %s", i, damaged)
			}
		}
	}
	if old, err := decodeRecord([]byte("format = 1\nperson = 'Imke'\n")); err != nil || old.Format != formatVersion || old.Person != "Imke" {
		t.Errorf("a record from before sums: %+v, %v", old, err)
	}
}

func FuzzDecodeIndex(f *testing.F) {
	x := newIndex()
	x.learn("exhibit/reef.glb", found{size: 7, changed: 8, inode: 9}, element.Digest{1})
	x.learn("oaken.toml", found{size: 1}, element.Digest{2})
	f.Add(x.encode())
	f.Add([]byte(indexMagic))
	f.Fuzz(func(t *testing.T, data []byte) {
		if x := decodeIndex(data); x != nil && !reflect.DeepEqual(decodeIndex(x.encode()), x) {
			t.Fatal("an index that was read is written otherwise")
		}
	})
}
