package chest

import (
	"errors"
	"slices"
	"testing"
)

func FuzzDecodeTree(f *testing.F) {
	f.Add(encodeTree([]File{{Path: "a", Mode: Plain, Size: 3}, {Path: "b", Mode: Folder}}))
	f.Add([]byte(treeMagic))
	f.Fuzz(func(t *testing.T, data []byte) {
		entries, err := decodeTree(data)
		if err != nil {
			if !errors.Is(err, errTree) {
				t.Fatal(err)
			}
			return
		}
		again, err := decodeTree(encodeTree(entries))
		if err != nil || !slices.Equal(entries, again) {
			t.Fatalf("%v came back as %v, %v", entries, again, err)
		}
	})
}
