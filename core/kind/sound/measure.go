package sound

import (
	"errors"
	"fmt"
	"math"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

func textValue(s string) element.Value { return element.TextValue(s) }

// Wave is a sound's samples, from -1 to 1, a list for each channel.
type Wave struct {
	rate     int
	channels [][]float32
}

// Rate gives the samples a second.
func (w *Wave) Rate() int { return w.rate }

// Length gives the number of samples in a channel.
func (w *Wave) Length() int { return w.length() }

// Envelope gives the least and the greatest sample of n pieces of equal length, over
// all channels.
func (w *Wave) Envelope(n int) (low, high []float32) {
	low, high = make([]float32, n), make([]float32, n)
	for i := range n {
		from, to := i*w.length()/n, max((i+1)*w.length()/n, i*w.length()/n+1)
		for _, c := range w.channels {
			for _, v := range c[min(from, len(c)):min(to, len(c))] {
				low[i], high[i] = min(low[i], v), max(high[i], v)
			}
		}
	}
	return low, high
}

func (w *Wave) length() int {
	if len(w.channels) == 0 {
		return 0
	}
	return len(w.channels[0])
}

func decode(src kind.Source) (*Wave, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	return Decode(data)
}

// Decode gives the samples of a sound in WAV or FLAC.
func Decode(data []byte) (*Wave, error) {
	switch formatOf(data) {
	case "WAV":
		return decodeWAV(data)
	case "FLAC":
		return decodeFLAC(data)
	}
	return nil, errors.New("samples in this form are not decoded")
}

// Facts gives the peak and the loudness.
func (Kind) Facts(src kind.Source) ([]element.Prop, error) {
	w, err := decode(src)
	if err != nil {
		return nil, err
	}
	return []element.Prop{{Name: "peak", Value: textValue(decibels(w.peak()) + " dBFS")},
		{Name: "loudness", Value: textValue(loudnessText(w.loudness()))}}, nil
}

// peak gives the greatest value of a sample.
func (w *Wave) peak() float64 {
	most := float32(0)
	for _, c := range w.channels {
		for _, v := range c {
			most = max(most, v, -v)
		}
	}
	return float64(most)
}

func decibels(v float64) string {
	if v == 0 {
		return "−∞"
	}
	return signed(20 * math.Log10(v))
}

// signed writes a number with one decimal and a minus sign as in print.
func signed(v float64) string {
	return strings.ReplaceAll(fmt.Sprintf("%.1f", v+0), "-", "−")
}

func loudnessText(v float64) string {
	if math.IsInf(v, -1) {
		return "silent"
	}
	return signed(v) + " LUFS"
}

// Measure says of `data` how the samples of two versions differ: how much longer
// one is, from when to when they differ, and how peak and loudness changed.
func (Kind) Measure(was, is kind.Source) (map[string]string, error) {
	a, err := decode(was)
	if err != nil {
		return nil, err
	}
	b, err := decode(is)
	if err != nil {
		return nil, err
	}
	var says []string
	if a.rate == b.rate {
		says = append(says, lengthened(a, b)...)
	}
	if len(a.channels) != len(b.channels) || a.rate != b.rate {
		says = append(says, "samples in another form")
	} else {
		says = append(says, differing(a, b)...)
	}
	if x, y := decibels(a.peak()), decibels(b.peak()); x != y {
		says = append(says, "peak "+x+" → "+y+" dBFS")
	}
	if x, y := loudnessText(a.loudness()), loudnessText(b.loudness()); x != y {
		says = append(says, "loudness "+strings.TrimSuffix(x, " LUFS")+" → "+y)
	}
	if len(says) == 0 {
		return map[string]string{"data": "the same samples, stored otherwise"}, nil
	}
	return map[string]string{"data": strings.Join(says, "; ")}, nil
}

func lengthened(a, b *Wave) []string {
	switch n := b.length() - a.length(); {
	case n > 0:
		return []string{seconds(int64(n), int64(a.rate)) + " s longer"}
	case n < 0:
		return []string{seconds(int64(-n), int64(a.rate)) + " s shorter"}
	}
	return nil
}

// Differs gives from where to where two sounds of one form differ, in samples.
// Sound that was put in or taken out moves what follows: when the ends are alike,
// only what is between counts. The two are equal when both are the same sounds.
func Differs(a, b *Wave) (begin, end int) {
	if len(a.channels) != len(b.channels) || a.rate != b.rate {
		return 0, max(a.length(), b.length())
	}
	short := min(a.length(), b.length())
	same := func(i, j int) bool {
		for c := range a.channels {
			if a.channels[c][i] != b.channels[c][j] {
				return false
			}
		}
		return true
	}
	for begin < short && same(begin, begin) {
		begin++
	}
	tail := 0
	for tail < short-begin && same(a.length()-1-tail, b.length()-1-tail) {
		tail++
	}
	return begin, max(begin, max(a.length(), b.length())-tail)
}

// differing says where the samples differ.
func differing(a, b *Wave) []string {
	begin, end := Differs(a, b)
	if begin >= end {
		return nil
	}
	at := func(n int) string { return fmt.Sprintf("%.2f s", float64(n)/float64(a.rate)) }
	if begin == 0 && end == max(a.length(), b.length()) {
		return []string{"it differs throughout"}
	}
	return []string{"it differs from " + at(begin) + " to " + at(end)}
}
