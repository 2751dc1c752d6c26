package sample

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"math"
)

// Spot is a dark pebble on the sand, in pixels.
type Spot struct{ X, Y, Radius int }

// SandPNG paints a square of rippled sand, size pixels wide, with pebbles on it.
func SandPNG(size int, pebbles ...Spot) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, size, size))
	for y := range size {
		for x := range size {
			f := 0.5 + 0.5*math.Sin(float64(x)*0.35+2*math.Sin(float64(y)*0.18))
			grain := float64((x*7919+y*104729)%23) / 23
			img.Set(x, y, color.NRGBA{uint8(190 + 40*f + 10*grain), uint8(165 + 35*f + 10*grain), uint8(110 + 25*f + 10*grain), 255})
		}
	}
	for _, s := range pebbles {
		for y := s.Y - s.Radius; y <= s.Y+s.Radius; y++ {
			for x := s.X - s.Radius; x <= s.X+s.Radius; x++ {
				if (x-s.X)*(x-s.X)+(y-s.Y)*(y-s.Y) <= s.Radius*s.Radius {
					img.Set(x, y, color.NRGBA{74, 86, 104, 255})
				}
			}
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err) // a buffer takes every byte
	}
	return b.Bytes()
}

// BubblesWAV makes half a second of rising bubbles: 16 bit, one channel, 11 kHz.
func BubblesWAV() []byte {
	const rate, length = 11025, 11025 / 2
	var data []byte
	for i := range length {
		t := float64(i) / rate
		since := math.Mod(t, 0.125)
		v := math.Sin(2*math.Pi*(400+2600*since)*since) * math.Exp(-22*since)
		data = binary.LittleEndian.AppendUint16(data, uint16(int16(v*14000)))
	}
	out := []byte("RIFF")
	out = binary.LittleEndian.AppendUint32(out, uint32(36+len(data)))
	out = append(out, "WAVEfmt "...)
	out = binary.LittleEndian.AppendUint32(out, 16)
	for _, n := range []uint16{1, 1} {
		out = binary.LittleEndian.AppendUint16(out, n)
	}
	out = binary.LittleEndian.AppendUint32(out, rate)
	out = binary.LittleEndian.AppendUint32(out, rate*2)
	for _, n := range []uint16{2, 16} {
		out = binary.LittleEndian.AppendUint16(out, n)
	}
	out = append(out, "data"...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(data)))
	return append(out, data...)
}
