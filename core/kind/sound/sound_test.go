package sound

import (
	"bytes"
	"encoding/binary"
	"math"
	"strings"
	"testing"

	"oakenchest/core/kind"
)

// tone makes a WAV sound of 16 bits: a sine of an amplitude from 0 to 1.
func tone(rate, channels, samples int, hertz, amplitude float64, more ...string) []byte {
	var body []byte
	for i := range samples {
		v := int16(amplitude * 32767 * math.Sin(2*math.Pi*hertz*float64(i)/float64(rate)))
		for range channels {
			body = binary.LittleEndian.AppendUint16(body, uint16(v))
		}
	}
	return wavOf(rate, channels, body, more...)
}

func wavOf(rate, channels int, body []byte, more ...string) []byte {
	form := binary.LittleEndian.AppendUint16(nil, 1)
	form = binary.LittleEndian.AppendUint16(form, uint16(channels))
	form = binary.LittleEndian.AppendUint32(form, uint32(rate))
	form = binary.LittleEndian.AppendUint32(form, uint32(rate*channels*2))
	form = binary.LittleEndian.AppendUint16(form, uint16(channels*2))
	form = binary.LittleEndian.AppendUint16(form, 16)
	out := []byte("WAVE")
	for _, c := range append([]string{"fmt " + string(form)}, append(more, "data"+string(body))...) {
		out = append(out, c[:4]...)
		out = binary.LittleEndian.AppendUint32(out, uint32(len(c)-4))
		out = append(out, c[4:]...)
		if len(c)%2 == 1 {
			out = append(out, 0)
		}
	}
	return append(binary.LittleEndian.AppendUint32([]byte("RIFF"), uint32(len(out))), out...)
}

func source(data []byte) kind.Source { return kind.FileSource{Name: "bubbles.wav", Data: data} }

func TestWhatASoundSaysOfItself(t *testing.T) {
	data := tone(8000, 2, 12000, 440, 0.5, "LIST"+"INFO"+"INAM\x08\x00\x00\x00Bubbles\x00"+"ISFT\x05\x00\x00\x00Tank\x00\x00", "cue 1234")
	r, err := Kind{}.Read(source(data))
	if err != nil {
		t.Fatal(err)
	}
	dump := r.Root.Dump()
	for _, want := range []string{"8000", "1.5", "title", "Bubbles", "software", "Tank", "cue"} {
		if !strings.Contains(dump, want) {
			t.Errorf("%q is not in\n%s", want, dump)
		}
	}
	for n := range min(len(data), 200) {
		_, _ = Kind{}.Read(source(data[:n]))
	}
}

func oggPage(position uint64, packets ...string) []byte {
	out := append([]byte("OggS\x00\x00"), binary.LittleEndian.AppendUint64(nil, position)...)
	out = append(out, make([]byte, 12)...)
	var segments, body []byte
	for _, p := range packets {
		for n := len(p); ; n -= 255 {
			segments = append(segments, byte(min(n, 255)))
			if n < 255 {
				break
			}
		}
		body = append(body, p...)
	}
	return append(append(append(out, byte(len(segments))), segments...), body...)
}

func TestOggIsReadByItsHeads(t *testing.T) {
	le := func(n int) string { return string(binary.LittleEndian.AppendUint32(nil, uint32(n))) }
	head := "\x01vorbis" + le(0) + "\x02" + le(44100) + le(0) + le(0) + le(0) + "\x00\x01"
	title := "TITLE=" + strings.Repeat("Bubbles ", 50)
	tags := "\x03vorbis" + le(4) + "Tank" + le(2) + le(len(title)) + title + le(11) + "ARTIST=Imke" + "\x01"
	data := append(oggPage(0, head), oggPage(0, tags, "tables")...)
	data = append(data, oggPage(88200, "samples")...)
	r, err := Kind{}.Read(source(data))
	if err != nil {
		t.Fatal(err)
	}
	dump := r.Root.Dump()
	for _, want := range []string{"Vorbis", "44100", "encoder", "Tank", "title", "Bubbles Bubbles", "artist", "Imke"} {
		if !strings.Contains(dump, want) {
			t.Errorf("%q is not in\n%s", want, dump)
		}
	}
	if got := r.Root.Prop("seconds").Text(); got != "2" {
		t.Errorf("%s seconds", got)
	}
	for n := range len(data) {
		_, _ = Kind{}.Read(source(data[:n]))
	}
}

// TestLoudnessOfTones holds the measure against the recommendation: a sine of 997
// Hz at full scale in one channel is -3.01 LUFS, in both of two -0.01 or so.
func TestLoudnessOfTones(t *testing.T) {
	for _, c := range []struct {
		rate, channels int
		amplitude      float64
		want           float64
	}{{48000, 1, 1, -3.01}, {48000, 2, 1, 0}, {48000, 1, 0.1, -23.01}, {44100, 1, 1, -3.01}, {22050, 1, 0.5, -9.03}} {
		w, err := decodeWAV(tone(c.rate, c.channels, 3*c.rate, 997, c.amplitude))
		if err != nil {
			t.Fatal(err)
		}
		if got := w.loudness(); math.Abs(got-c.want) > 0.1 {
			t.Errorf("%d Hz, %d channels, amplitude %g: %.2f LUFS, want %.2f", c.rate, c.channels, c.amplitude, got, c.want)
		}
	}
	if w, _ := decodeWAV(tone(48000, 1, 48000, 997, 0)); !math.IsInf(w.loudness(), -1) || loudnessText(w.loudness()) != "silent" {
		t.Error("silence is loud")
	}
}

func TestSamplesAreMeasured(t *testing.T) {
	const rate = 8000
	a := tone(rate, 1, 2*rate, 440, 0.5)
	measure := func(b []byte) string {
		t.Helper()
		m, err := Kind{}.Measure(source(a), source(b))
		if err != nil {
			t.Fatal(err)
		}
		return m["data"]
	}
	body := bytes.Clone(a[44:])
	if got := measure(wavOf(rate, 1, body, "cue x")); got != "the same samples, stored otherwise" {
		t.Errorf("the same: %s", got)
	}
	edited := bytes.Clone(body)
	for i := rate; i < rate+rate/2; i++ {
		edited[2*i], edited[2*i+1] = 0, 0x10
	}
	if got := measure(wavOf(rate, 1, edited)); !strings.HasPrefix(got, "it differs from 1.00 s to 1.50 s; loudness") {
		t.Errorf("edited: %s", got)
	}
	longer := append(bytes.Clone(body[:rate]), append(make([]byte, 2*rate*2), body[rate:]...)...)
	if got := measure(wavOf(rate, 1, longer)); !strings.HasPrefix(got, "2 s longer; it differs from 0.50 s to 2.50 s") {
		t.Errorf("longer: %s", got)
	}
	if got := measure(tone(rate, 1, 2*rate, 440, 0.25)); !strings.Contains(got, "it differs") ||
		!strings.Contains(got, "peak −6.0 → −12.0 dBFS") {
		t.Errorf("softer: %s", got)
	}
	if got := measure(tone(rate, 2, 2*rate, 440, 0.5)); !strings.Contains(got, "samples in another form") {
		t.Errorf("two channels: %s", got)
	}
	facts, err := Kind{}.Facts(source(a))
	if err != nil || len(facts) != 2 || facts[0].Value.Text() != "−6.0 dBFS" {
		t.Errorf("facts: %v, %v", facts, err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(tone(8000, 1, 100, 440, 0.5, "LIST"+"INFO"+"INAM\x02\x00\x00\x00B\x00"))
	f.Add(oggPage(0, "\x01vorbis", "\x03vorbis"))
	f.Add([]byte("fLaC\x80\x00\x00\x22"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) < 12 {
			return
		}
		if r, err := (Kind{}).Read(source(data)); err == nil && r.Root.Prop("rate").IsAbsent() {
			t.Fatal("a sound without a rate")
		}
		if w, err := decode(source(data)); err == nil {
			w.peak()
		}
	})
}
