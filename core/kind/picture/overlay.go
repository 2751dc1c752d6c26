package picture

import (
	"image"
	"image/color"

	"golang.org/x/image/draw"
)

// Overlay draws what differs between two pictures of one size: the second in
// faint grey, pixels that differ in a strong colour, boxes around the areas. It is
// at most most pixels wide and high.
func Overlay(was, is *image.NRGBA, d PixelDiff, most int) *image.NRGBA {
	w, h := is.Rect.Dx(), is.Rect.Dy()
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		ra, rb, ro := was.Pix[y*was.Stride:], is.Pix[y*is.Stride:], out.Pix[y*out.Stride:]
		for x := range w {
			a, b := [4]byte(ra[4*x:]), [4]byte(rb[4*x:])
			if a != b && (a[3] != 0 || b[3] != 0) {
				copy(ro[4*x:], []byte{mark.R, mark.G, mark.B, 255})
				continue
			}
			grey := (299*int(b[0]) + 587*int(b[1]) + 114*int(b[2])) / 1000
			pale := byte(170 + grey/4)
			copy(ro[4*x:], []byte{pale, pale, pale, b[3]})
		}
	}
	scale := 1.0
	if big := max(w, h); big > most {
		scale = float64(most) / float64(big)
		small := image.NewNRGBA(image.Rect(0, 0, max(1, int(float64(w)*scale)), max(1, int(float64(h)*scale))))
		draw.ApproxBiLinear.Scale(small, small.Rect, out, out.Rect, draw.Src, nil)
		out = small
	}
	for i, a := range d.Areas {
		if i == mostBoxes {
			break
		}
		at := func(n int) int { return int(float64(n) * scale) }
		outline(out, image.Rect(at(a.Min.X)-2, at(a.Min.Y)-2, at(a.Max.X)+2, at(a.Max.Y)+2))
	}
	return out
}

// mark is the colour of what differs, and frame that of the boxes.
var (
	mark  = color.NRGBA{R: 0xd6, G: 0x1f, B: 0x69, A: 255}
	frame = color.NRGBA{R: 0x0b, G: 0x6e, B: 0x7f, A: 255}
)

// mostBoxes bounds the boxes that are drawn.
const mostBoxes = 50

// outline draws the inner border of a box, as far as it lies in the picture.
func outline(img *image.NRGBA, r image.Rectangle) {
	r = r.Intersect(img.Rect)
	for x := r.Min.X; x < r.Max.X; x++ {
		img.SetNRGBA(x, r.Min.Y, frame)
		img.SetNRGBA(x, r.Max.Y-1, frame)
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		img.SetNRGBA(r.Min.X, y, frame)
		img.SetNRGBA(r.Max.X-1, y, frame)
	}
}
