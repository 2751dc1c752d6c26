package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/draw"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Facts has nothing to add to what Read gives.
func (Kind) Facts(kind.Source) ([]element.Prop, error) { return nil, nil }

// Measure says of `data` how the pixels of two versions differ.
func (Kind) Measure(was, is kind.Source) (map[string]string, error) {
	a, err := decodeSource(was)
	if err != nil {
		return nil, err
	}
	b, err := decodeSource(is)
	if err != nil {
		return nil, err
	}
	if a.Rect.Size() != b.Rect.Size() {
		return map[string]string{"data": "pixels of another size"}, nil
	}
	return map[string]string{"data": ComparePixels(a, b).String()}, nil
}

func decodeSource(src kind.Source) (*image.NRGBA, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	return Decode(data)
}

// Decode gives the pixels of a picture, in 8 bits a channel.
func Decode(data []byte) (*image.NRGBA, error) {
	config, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	if int64(config.Width)*int64(config.Height) > MaxPixels {
		return nil, errors.New("the picture is too large to be measured")
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	if same, ok := img.(*image.NRGBA); ok {
		return same, nil
	}
	out := image.NewNRGBA(image.Rect(0, 0, img.Bounds().Dx(), img.Bounds().Dy()))
	draw.Draw(out, out.Rect, img, img.Bounds().Min, draw.Src)
	return out, nil
}

// PixelDiff is how the pixels of two pictures of one size differ.
type PixelDiff struct {
	// Changed counts the pixels that differ, of Total.
	Changed, Total int
	// Peak is the greatest difference of a channel, of 255.
	Peak int
	// Areas are boxes around what differs, the largest first.
	Areas []image.Rectangle
}

// tile is the side in pixels of the squares that areas are made of: changes in
// squares that touch are one area.
const tile = 16

// ComparePixels compares two pictures of one size.
func ComparePixels(a, b *image.NRGBA) PixelDiff {
	w, h := a.Rect.Dx(), a.Rect.Dy()
	d := PixelDiff{Total: w * h}
	across := (w + tile - 1) / tile
	boxes := make([]image.Rectangle, across*((h+tile-1)/tile)) // of what differs in each square
	for y := range h {
		ra, rb := a.Pix[y*a.Stride:y*a.Stride+4*w], b.Pix[y*b.Stride:y*b.Stride+4*w]
		if bytes.Equal(ra, rb) {
			continue
		}
		for x := range w {
			pa, pb := ra[4*x:4*x+4:4*x+4], rb[4*x:4*x+4:4*x+4]
			if [4]byte(pa) == [4]byte(pb) || pa[3] == 0 && pb[3] == 0 { // unseen pixels have no colour
				continue
			}
			d.Changed++
			for i := range 4 {
				d.Peak = max(d.Peak, int(pa[i])-int(pb[i]), int(pb[i])-int(pa[i]))
			}
			at := y/tile*across + x/tile
			boxes[at] = boxes[at].Union(image.Rect(x, y, x+1, y+1))
		}
	}
	d.Areas = joinTiles(boxes, across)
	return d
}

// joinTiles joins the boxes of squares that touch.
func joinTiles(boxes []image.Rectangle, across int) []image.Rectangle {
	seen := make([]bool, len(boxes))
	var out []image.Rectangle
	for i, b := range boxes {
		if b.Empty() || seen[i] {
			continue
		}
		area, waiting := image.Rectangle{}, []int{i}
		seen[i] = true
		for len(waiting) > 0 {
			k := waiting[len(waiting)-1]
			waiting = waiting[:len(waiting)-1]
			area = area.Union(boxes[k])
			x, y := k%across, k/across
			for dy := -1; dy <= 1; dy++ {
				for dx := -1; dx <= 1; dx++ {
					n := (y+dy)*across + x + dx
					if x+dx < 0 || x+dx >= across || n < 0 || n >= len(boxes) || seen[n] || boxes[n].Empty() {
						continue
					}
					seen[n] = true
					waiting = append(waiting, n)
				}
			}
		}
		out = append(out, area)
	}
	slices.SortStableFunc(out, func(a, b image.Rectangle) int { return b.Dx()*b.Dy() - a.Dx()*a.Dy() })
	return out
}

// listedAreas is how many areas are named.
const listedAreas = 3

// String says it in a few words.
func (d PixelDiff) String() string {
	if d.Changed == 0 {
		return "the same pixels, stored otherwise"
	}
	var areas []string
	for i, a := range d.Areas {
		if i == listedAreas {
			areas = append(areas, fmt.Sprintf("and %d more", len(d.Areas)-i))
			break
		}
		areas = append(areas, fmt.Sprintf("%d × %d at %d, %d", a.Dx(), a.Dy(), a.Min.X, a.Min.Y))
	}
	return fmt.Sprintf("%s of the pixels differ, by up to %d of 255: %s", share(d.Changed, d.Total), d.Peak, strings.Join(areas, "; "))
}

// share writes a part of a whole in percent.
func share(n, of int) string {
	p := 100 * float64(n) / float64(of)
	switch {
	case n == of:
		return "all"
	case p >= 99.5:
		return "almost all"
	case p < 0.1:
		return "less than 0.1 %"
	case p < 10:
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}
