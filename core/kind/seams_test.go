package kind

import (
	"bytes"
	"slices"
	"testing"
)

func TestSeamsOfPicturesAndSounds(t *testing.T) {
	png := "\x89PNG\r\n\x1a\n" + "\x00\x00\x00\x02IHDRab1234" + "\x00\x00\x00\x03IDATabc1234" + "\x00\x00\x00\x00IEND1234"
	wav := "RIFF\x1c\x00\x00\x00WAVE" + "fmt \x03\x00\x00\x00abc\x00" + "data\x04\x00\x00\x00wxyz"
	for _, c := range []struct {
		name, data string
		want       []int64
	}{
		{"picture", png, []int64{8, 22, 37}},
		{"sound", wav, []int64{12, 24}},
		{"cut short", png[:24], []int64{8, 22}},
		{"neither", "something else altogether", nil},
		{"nothing", "", nil},
	} {
		if got := ChunkSeams(bytes.NewReader([]byte(c.data)), int64(len(c.data))); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func FuzzSeams(f *testing.F) {
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x02IHDRab1234"))
	f.Add([]byte("RIFF\x1c\x00\x00\x00WAVEfmt \x03\x00\x00\x00abc\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		seams := ChunkSeams(bytes.NewReader(data), int64(len(data)))
		if !slices.IsSorted(seams) || len(seams) > 0 && seams[len(seams)-1] >= int64(len(data)) {
			t.Fatalf("%v in %d bytes", seams, len(data))
		}
	})
}
