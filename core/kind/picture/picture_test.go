package picture

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"golang.org/x/image/bmp"
	"golang.org/x/image/tiff"

	"oakenchest/core/kind"
	"oakenchest/core/kind/media"
)

// sand paints a picture with shades in it.
func sand(w, h int) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.Set(x, y, color.NRGBA{uint8(x), uint8(y), uint8(x ^ y), 255})
		}
	}
	return img
}

func encoded(t testing.TB, img image.Image) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	for name, enc := range map[string]func(*bytes.Buffer) error{
		"PNG":  func(b *bytes.Buffer) error { return png.Encode(b, img) },
		"JPEG": func(b *bytes.Buffer) error { return jpeg.Encode(b, img, nil) },
		"GIF":  func(b *bytes.Buffer) error { return gif.Encode(b, img, nil) },
		"BMP":  func(b *bytes.Buffer) error { return bmp.Encode(b, img) },
		"TIFF": func(b *bytes.Buffer) error { return tiff.Encode(b, img, nil) },
	} {
		var b bytes.Buffer
		if err := enc(&b); err != nil {
			t.Fatal(err)
		}
		out[name] = b.Bytes()
	}
	return out
}

func source(data []byte) kind.Source { return kind.FileSource{Name: "sand", Data: data} }

func TestEveryFormatIsRead(t *testing.T) {
	for format, data := range encoded(t, sand(70, 50)) {
		if !(Kind{}).Claims("sand", data[:min(len(data), kind.HeadSize)]) {
			t.Errorf("%s is not claimed", format)
		}
		r, err := Kind{}.Read(source(data))
		if err != nil {
			t.Errorf("%s: %v", format, err)
			continue
		}
		if got := r.Root.Prop("format").Text(); got != format || r.Root.Prop("width").Text() != "70" ||
			r.Root.Prop("height").Text() != "50" {
			t.Errorf("%s: %s", format, r.Root.Dump())
		}
		for n := range min(len(data), 400) { // nothing that is cut short upsets it
			_, _ = Kind{}.Read(source(data[:n]))
		}
	}
}

// pngWith puts chunks after the head of a PNG picture.
func pngWith(data []byte, chunks ...string) []byte {
	out := append([]byte{}, data[:33]...)
	for _, c := range chunks {
		out = binary.BigEndian.AppendUint32(out, uint32(len(c)-4))
		out = append(out, c...)
		out = append(out, 0, 0, 0, 0) // readers here do not look at the sum of what they skip
	}
	return append(out, data[33:]...)
}

func TestTextsAndFields(t *testing.T) {
	plain := encoded(t, sand(8, 8))["PNG"]
	exif := "II*\x00\x08\x00\x00\x00\x02\x00" + "\x31\x01\x02\x00\x05\x00\x00\x00\x26\x00\x00\x00" +
		"\x12\x01\x03\x00\x01\x00\x00\x00\x06\x00\x00\x00" + "\x00\x00\x00\x00" + "Reef\x00"
	p := parts{media.New("picture")}
	data := pngWith(plain, "tEXtAuthor\x00Imke M\xfcller", "iTXtTitle\x00\x00\x00de\x00Titel\x00Sand \u00e4",
		"pHYs\x00\x00\x0b\x13\x00\x00\x0b\x13\x01", "eXIf"+exif, "gAMA\x00\x00\x01\x02")
	if err := p.png(data); err != nil {
		t.Fatal(err)
	}
	got := p.Root.Dump()
	for _, want := range []string{"Imke Müller", "Sand ä", "dots per metre", "2835", "software", "Reef", "orientation", "gAMA"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in\n%s", want, got)
		}
	}
}

func TestPixelsAreMeasured(t *testing.T) {
	a, b := sand(200, 100), sand(200, 100)
	measure := func(x, y []byte) string {
		t.Helper()
		m, err := Kind{}.Measure(source(x), source(y))
		if err != nil {
			t.Fatal(err)
		}
		return m["data"]
	}
	before := encoded(t, a)
	if got := measure(before["PNG"], before["BMP"]); got != "the same pixels, stored otherwise" {
		t.Errorf("equal pixels: %s", got)
	}
	for x := 40; x < 60; x++ {
		for y := 30; y < 40; y++ {
			b.Set(x, y, color.NRGBA{uint8(x), uint8(y), uint8(x^y) + 50, 255})
		}
	}
	b.Set(180, 90, color.NRGBA{0, 0, 0, 255})
	after := encoded(t, b)
	if got := measure(before["PNG"],
		after["PNG"]); got != "1.0 % of the pixels differ, by up to 238 of 255: 20 × 10 at 40, 30; 1 × 1 at 180, 90" {
		t.Errorf("an edited picture: %s", got)
	}
	if got := measure(before["PNG"], encoded(t, sand(20, 20))["PNG"]); got != "pixels of another size" {
		t.Errorf("another size: %s", got)
	}
	for i := range a.Pix {
		b.Pix[i] = 255 - a.Pix[i]
	}
	if d := ComparePixels(a, b); d.Changed < 19_990 || len(d.Areas) != 1 || d.Areas[0] != a.Rect {
		t.Errorf("everything changed: %+v", d)
	}
	if _, err := (Kind{}).Measure(source([]byte("\x89PNG\r\n\x1a\n")), source(before["PNG"])); err == nil {
		t.Error("a damaged picture was measured")
	}
}

func FuzzRead(f *testing.F) {
	for _, data := range encoded(f, sand(9, 9)) {
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Kind{}.Read(source(data))
		if err == nil && r.Root.Prop("width").IsAbsent() {
			t.Fatal("a picture without a width")
		}
	})
}

func BenchmarkMeasure(b *testing.B) {
	one := encoded(b, sand(2048, 2048))["PNG"]
	other := sand(2048, 2048)
	other.Set(1000, 1000, color.NRGBA{})
	two := encoded(b, other)["PNG"]
	b.Run("decode both", func(b *testing.B) {
		for b.Loop() {
			for _, data := range [][]byte{one, two} {
				if _, err := png.Decode(bytes.NewReader(data)); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("measure", func(b *testing.B) {
		for b.Loop() {
			if _, err := (Kind{}).Measure(source(one), source(two)); err != nil {
				b.Fatal(err)
			}
		}
	})
}
