// Package picture is the kind of pictures: PNG, JPEG, GIF, BMP, TIFF and WebP.
//
// The root says the format, the size in pixels, the depth and the sort of
// colours; `data` stands for the stored pixels. Below it is what is said about
// the picture: texts and comments, camera and program fields (Exif 2.32, TIFF
// 6.0), other chunks whole. Pixels are decoded only to be measured: which share of
// them two versions do not have alike, where, and by how much.
//
// Pictures are not merged.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // decoders
	_ "image/jpeg"
	_ "image/png"
	"io"

	_ "golang.org/x/image/bmp" // more decoders
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/media"
)

// MaxPixels bounds a picture whose pixels are measured.
const MaxPixels = 1 << 26

// Kind reads pictures.
type Kind struct{}

var (
	_ kind.Measurer = Kind{}
	_ kind.Seamer   = Kind{}
)

// Name is "picture".
func (Kind) Name() string { return "picture" }

// About describes the kind.
func (Kind) About() string {
	return "PNG, JPEG, GIF, BMP, TIFF, WebP: size, colours, texts and fields; pixels are compared, not merged"
}

// formats are told by how files begin.
var formats = []struct {
	name  string
	begin string
}{
	{"PNG", "\x89PNG\r\n\x1a\n"}, {"JPEG", "\xff\xd8\xff"}, {"GIF", "GIF87a"}, {"GIF", "GIF89a"}, {"TIFF", "II*\x00"}, {"TIFF", "MM\x00*"},
}

// formatOf names a picture's format; empty for what is none.
func formatOf(head []byte) string {
	for _, f := range formats {
		if bytes.HasPrefix(head, []byte(f.begin)) {
			return f.name
		}
	}
	switch {
	case len(head) >= 12 && string(head[:4]) == "RIFF" && string(head[8:12]) == "WEBP":
		return "WebP"
	case len(head) >= 18 && string(head[:2]) == "BM" && head[14] >= 12 && head[15] == 0 && head[16] == 0 && head[17] == 0:
		return "BMP"
	}
	return ""
}

// Claims takes what begins like a picture.
func (Kind) Claims(_ string, head []byte) bool { return formatOf(head) != "" }

// Quick says that a picture is read without its pixels.
func (Kind) Quick() {}

// Read reads what a picture says about itself.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	format := formatOf(data)
	if format == "" {
		return nil, errors.New("it does not begin like a picture")
	}
	config, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("the %s picture is damaged: %w", format, err)
	}
	p := &parts{media.New("picture")}
	p.Root.Set("format", element.TextValue(format))
	p.Root.Set("width", element.IntValue(int64(config.Width)))
	p.Root.Set("height", element.IntValue(int64(config.Height)))
	switch format {
	case "PNG":
		err = p.png(data)
	case "JPEG":
		err = p.jpeg(data)
	case "TIFF":
		p.fields(data, "")
		p.Stored(data)
	default:
		p.Stored(data)
	}
	if err != nil {
		return nil, fmt.Errorf("the %s picture is damaged: %w", format, err)
	}
	return p.Reading(fmt.Sprintf("%s, %d × %d", format, config.Width, config.Height)), nil
}

// parts gathers what a picture consists of.
type parts struct{ *media.Parts }

// Seams gives where the chunks of a PNG picture begin.
func (Kind) Seams(file io.ReaderAt, size int64) []int64 { return kind.ChunkSeams(file, size) }
