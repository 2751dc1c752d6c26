package recipe

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/png"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/opaque"
	pictures "oakenchest/core/kind/picture"
	"oakenchest/core/manifest"
)

// pngWith gives a picture with chunks behind its head.
func pngWith(t *testing.T, chunks ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 2, 2))); err != nil {
		t.Fatal(err)
	}
	const head = 8 + 25
	out := bytes.Clone(b.Bytes()[:head])
	for _, c := range chunks {
		out = binary.BigEndian.AppendUint32(out, uint32(len(c)-4))
		out = append(out, c...)
		out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE([]byte(c)))
	}
	return append(out, b.Bytes()[head:]...)
}

// TestNoiseOfPictures reads what programs write of themselves as saying nothing, and what a recipe names.
func TestNoiseOfPictures(t *testing.T) {
	read := func(data []byte, recipes ...manifest.Recipe) *kind.Reading {
		t.Helper()
		table := Over(kind.NewTable(pictures.Kind{}, opaque.Kind{}), recipes)
		r, used, err := table.Read(table.For("a.png", data), kind.FileSource{Name: "a.png", Data: data})
		if err != nil || used.Name() != "picture" {
			t.Fatal(used, err)
		}
		return r
	}
	one := pngWith(t, "tEXtSoftware\x00A 1", "tEXtTitle\x00Reef", "tIME\x07\xea\x01\x01\x01\x01\x01")
	other := pngWith(t, "tEXtTitle\x00Reef", "tEXtdate:modify\x00now", "tEXtSoftware\x00B", "tIME\x07\xea\x01\x01\x01\x01\x02")
	title := pngWith(t, "tEXtSoftware\x00A 1", "tEXtTitle\x00Kelp", "tIME\x07\xea\x01\x01\x01\x01\x01")
	differs := func(a, b *kind.Reading) int { return len(element.Compare(a.Root, b.Root).Changes("a.png")) }
	if n := differs(read(one), read(other)); n != 1 {
		t.Errorf("out of the box %d things differ, not the time alone", n)
	}
	times := manifest.Recipe{Name: "times", Match: "**/*.png", Elements: []manifest.ElementRule{{At: "picture", Noise: []string{"tIME"}}}}
	a, b := read(one, times), read(other, times)
	if differs(a, b) != 0 || a.Hidden == b.Hidden || a.Hidden == (element.Digest{}) {
		t.Errorf("by the recipe %d things differ; hidden %x, %x", differs(a, b), a.Hidden, b.Hidden)
	}
	if differs(a, read(title, times)) != 1 {
		t.Error("a title is no noise")
	}
	if all := read(one, manifest.Recipe{Name: "texts", Match: "**/*.png",
		Elements: []manifest.ElementRule{{At: "picture", Noise: []string{"text", "width"}}}}); !all.Root.Prop("width").IsAbsent() ||
		len(all.Root.Children) != 1 {
		t.Errorf("a type and a property: %s", all.Root.Dump())
	}
}
