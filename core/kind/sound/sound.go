// Package sound is the kind of sounds: WAV, FLAC and Ogg.
//
// The root says the format, the rate, the channels, the depth and the length in
// seconds; `data` stands for the stored samples. Below it is what is said about
// the sound: texts (RIFF INFO, Vorbis comments of RFC 9639 and of the Vorbis I
// specification), and other chunks whole. Samples of WAV and FLAC are decoded only
// to be measured: the peak, the loudness, and where in time two versions differ.
//
// Sounds are not merged.
package sound

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/media"
)

// Kind reads sounds.
type Kind struct{}

var (
	_ kind.Measurer = Kind{}
	_ kind.Quick    = Kind{}
	_ kind.Seamer   = Kind{}
)

// Name is "sound".
func (Kind) Name() string { return "sound" }

// About describes the kind.
func (Kind) About() string {
	return "WAV, FLAC, Ogg: length, rate, channels, texts; samples are compared, not merged"
}

// formatOf names a sound's format; empty for what is none.
func formatOf(head []byte) string {
	switch {
	case len(head) >= 12 && string(head[:4]) == "RIFF" && string(head[8:12]) == "WAVE":
		return "WAV"
	case bytes.HasPrefix(head, []byte("fLaC")):
		return "FLAC"
	case bytes.HasPrefix(head, []byte("OggS")):
		return "Ogg"
	}
	return ""
}

// Claims takes what begins like a sound.
func (Kind) Claims(_ string, head []byte) bool { return formatOf(head) != "" }

// Quick says that a sound is read without its samples.
func (Kind) Quick() {}

// Seams gives where the chunks of a WAV sound begin.
func (Kind) Seams(file io.ReaderAt, size int64) []int64 { return kind.ChunkSeams(file, size) }

// Read reads what a sound says about itself.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	format := formatOf(data)
	p := &parts{media.New("sound")}
	p.Root.Set("format", element.TextValue(format))
	switch format {
	case "WAV":
		err = p.wav(data)
	case "FLAC":
		err = p.flac(data)
	case "Ogg":
		err = p.ogg(data)
	default:
		return nil, errors.New("it does not begin like a sound")
	}
	if err != nil {
		return nil, fmt.Errorf("the %s sound is damaged: %w", format, err)
	}
	gist := format
	if s := p.Root.Prop("seconds").Text(); s != "" {
		gist += ", " + s + " s"
	}
	return p.Reading(gist), nil
}

// parts gathers what a sound consists of.
type parts struct{ *media.Parts }

// form sets the rate in samples a second, the channels, the bits of a sample and
// the length in samples a channel.
func (p *parts) form(rate, channels, bits, length int64) {
	p.Root.Set("rate", element.IntValue(rate))
	p.Root.Set("channels", element.IntValue(channels))
	if bits > 0 {
		p.Root.Set("depth", element.IntValue(bits))
	}
	if rate > 0 && length >= 0 {
		p.Root.Set("seconds", element.NumberValue(seconds(length, rate)))
	}
}

// seconds writes a length, to the millisecond.
func seconds(samples, rate int64) string {
	text := strconv.FormatFloat(float64(samples)/float64(rate), 'f', 3, 64)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}
