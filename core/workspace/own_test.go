package workspace

import (
	"reflect"
	"testing"
)

func TestTheWorkspaceRecordCarriesItsSum(t *testing.T) {
	want := record{Format: formatVersion, Person: "Imke", Name: "imke-desk-reef", Chest: "/shared/reef", Branch: "main", Base: "00",
		Only: []string{"exhibit/**"}}
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
	if old, err := decodeRecord([]byte("format = 1\nperson = 'Imke'\n")); err != nil || old.Format != formatVersion ||
		old.Person != "Imke" {
		t.Errorf("a record from before sums: %+v, %v", old, err)
	}
}
