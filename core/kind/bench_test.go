package kind_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
)

// specimens is an XML document of n elements, of which every gap-th differs from
// that with another mark.
func specimens(n, gap int, mark string) kind.FileSource {
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\"?>\n<collection>\n")
	for i := range n / 2 {
		says := "a quiet one"
		if i%(gap/2) == 7 {
			says = mark
		}
		fmt.Fprintf(&b, "  <specimen id=\"s%d\" tank=\"%d\"><says>%s</says></specimen>\n", i, i%400, says)
	}
	return kind.FileSource{Name: "specimens.xml", Data: []byte(b.String() + "</collection>\n")}
}

// nodes is a glTF scene of n nodes; those that edit chooses stand elsewhere.
func nodes(n int, edit func(i int) bool) kind.FileSource {
	var b strings.Builder
	b.WriteString(`{"asset":{"version":"2.0"},"nodes":[`)
	for i := range n {
		if i > 0 {
			b.WriteString(",\n")
		}
		x := 0
		if edit(i) {
			x = 9
		}
		fmt.Fprintf(&b, `{"name":"Weed %d","translation":[%d,%d,1]}`, i, x, i%100)
	}
	return kind.FileSource{Name: "reef.gltf", Data: []byte(b.String() + "]}")}
}

// painted is a noisy picture; spot is one that differs.
func painted(size int, spot bool) kind.FileSource {
	img := image.NewNRGBA(image.Rect(0, 0, size, size))
	for y := range size {
		for x := range size {
			v := uint8((x*x/7 + y*y/5 + x*y/11) % 251)
			img.SetNRGBA(x, y, color.NRGBA{v, v / 2, uint8(x), 255})
		}
	}
	if spot {
		for i := range 50 {
			img.SetNRGBA(100+i, 200, color.NRGBA{255, 0, 0, 255})
		}
	}
	var b bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, img); err != nil {
		panic(err)
	}
	return kind.FileSource{Name: "sand.png", Data: b.Bytes()}
}

func mustRead(b *testing.B, k kind.Kind, src kind.FileSource) *kind.Reading {
	r, err := k.Read(src)
	if err != nil {
		b.Fatal(err)
	}
	return r
}

// The benchmarks come in pairs: the work, and what it is held against. bench/artifacts
// prints the ratios.

func BenchmarkTwoTreesRead(b *testing.B) {
	k, _ := all.Table().Named("xml")
	one, two := specimens(100_000, 10_000, "one"), specimens(100_000, 10_000, "two")
	for b.Loop() {
		mustRead(b, k, one)
		mustRead(b, k, two)
	}
}

func BenchmarkTwoTreesCompared(b *testing.B) {
	k, _ := all.Table().Named("xml")
	one, two := specimens(100_000, 10_000, "one"), specimens(100_000, 10_000, "two")
	for b.Loop() {
		if n := len(element.Compare(mustRead(b, k, one).Root, mustRead(b, k, two).Root).Changes("x")); n != 10 {
			b.Fatal(n)
		}
	}
}

func BenchmarkTwoPicturesDecoded(b *testing.B) {
	one, two := painted(4096, false), painted(4096, true)
	for b.Loop() {
		for _, src := range []kind.FileSource{one, two} {
			if _, err := png.Decode(bytes.NewReader(src.Data)); err != nil {
				b.Fatal(err)
			}
		}
	}
}

func BenchmarkTwoPicturesCompared(b *testing.B) {
	k, _ := all.Table().Named("picture")
	one, two := painted(4096, false), painted(4096, true)
	for b.Loop() {
		element.Compare(mustRead(b, k, one).Root, mustRead(b, k, two).Root)
		if notes, err := k.(kind.Measurer).Measure(one, two); err != nil || notes["data"] == "" {
			b.Fatal(err)
		}
	}
}

// threeScenes are a base and two descendants with a thousand edits each.
func threeScenes() (base, mine, theirs kind.FileSource) {
	const n = 100_000
	return nodes(n, func(int) bool { return false }), nodes(n, func(i int) bool { return i%100 == 3 }),
		nodes(n, func(i int) bool { return i%100 == 57 })
}

func BenchmarkThreeScenesRead(b *testing.B) {
	k, _ := all.Table().Named("scene")
	base, mine, theirs := threeScenes()
	for b.Loop() {
		for _, src := range []kind.FileSource{base, mine, theirs} {
			mustRead(b, k, src)
		}
	}
}

func BenchmarkThreeScenesMerged(b *testing.B) {
	k, _ := all.Table().Named("scene")
	base, mine, theirs := threeScenes()
	for b.Loop() {
		m := mustRead(b, k, mine)
		merged, conflicts := element.Merge("reef.gltf", mustRead(b, k, base).Root, m.Root, mustRead(b, k, theirs).Root, nil)
		if len(conflicts) > 0 {
			b.Fatal(conflicts[0])
		}
		if files, err := k.(kind.Writer).Write(mine, merged, m.Content); err != nil || len(files) != 1 {
			b.Fatal(err)
		}
	}
}
