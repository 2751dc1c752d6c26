package sound

import (
	"encoding/binary"
	"errors"
	"math"
	"strings"
	"unicode/utf8"
)

var (
	errShort = errors.New("it is cut short")
	errLong  = errors.New("it is too long to be measured")
)

// maxSamples bounds a sound that is measured: 25 minutes of two channels at 44.1
// kHz, in half a GiB.
const maxSamples = 1 << 27

// wavForm is the form of the samples of a WAV sound.
type wavForm struct {
	tag, channels, bits uint16
	rate                uint32
}

const (
	wavPCM   = 1
	wavFloat = 3
	wavOther = 0xfffe // the tag follows further on
)

func (f wavForm) frame() int { return int(f.channels) * int(f.bits) / 8 }

// eachChunk visits the chunks of a RIFF file; the last may be cut short, as that
// of a recording which was interrupted is.
func eachChunk(data []byte, visit func(name string, body []byte) error) error {
	for len(data) >= 8 {
		n := uint64(binary.LittleEndian.Uint32(data[4:]))
		name := string(data[:4])
		data = data[8:]
		body := data[:min(n, uint64(len(data)))]
		if err := visit(name, body); err != nil {
			return err
		}
		data = data[min(n+n&1, uint64(len(data))):]
	}
	return nil
}

func readForm(body []byte) (f wavForm, err error) {
	if len(body) < 16 {
		return f, errShort
	}
	f = wavForm{binary.LittleEndian.Uint16(body), binary.LittleEndian.Uint16(body[2:]), binary.LittleEndian.Uint16(body[14:]),
		binary.LittleEndian.Uint32(body[4:])}
	if f.tag == wavOther && len(body) >= 26 {
		f.tag = binary.LittleEndian.Uint16(body[24:])
	}
	if f.channels == 0 || f.rate == 0 {
		return f, errors.New("it has no channels or no rate")
	}
	return f, nil
}

// infoNames are the texts of RIFF INFO that people know.
var infoNames = map[string]string{"INAM": "title", "IART": "artist", "ICMT": "comment", "ICOP": "copyright", "ICRD": "date",
	"ISFT": "software", "IGNR": "genre"}

func (p *parts) wav(data []byte) error {
	var f wavForm
	var samples []byte
	found := false
	err := eachChunk(data[12:], func(name string, body []byte) (err error) {
		switch {
		case name == "fmt ":
			f, err = readForm(body)
		case name == "data" && !found:
			samples, found = body, true
		case name == "LIST" && len(body) >= 4 && string(body[:4]) == "INFO":
			return eachChunk(body[4:], func(name string, text []byte) error {
				key, known := infoNames[name]
				if !known {
					key = strings.TrimSpace(name)
				}
				if s := strings.TrimRight(string(text), "\x00"); utf8.ValidString(s) {
					p.Text(key, s)
				} else {
					p.Chunk(name, text)
				}
				return nil
			})
		case name == "fact": // the length once more
		default:
			p.Chunk(strings.TrimSpace(name), body)
		}
		return err
	})
	if err == nil && (!found || f.rate == 0) {
		err = errors.New("it has no samples, or does not say their form")
	}
	if err != nil {
		return err
	}
	length := int64(-1)
	if f.frame() > 0 && (f.tag == wavPCM || f.tag == wavFloat) {
		length = int64(len(samples) / f.frame())
	}
	p.form(int64(f.rate), int64(f.channels), int64(f.bits), length)
	p.Stored(samples)
	return nil
}

// decodeWAV gives the samples of each channel, from -1 to 1.
func decodeWAV(data []byte) (*Wave, error) {
	var f wavForm
	var samples []byte
	err := eachChunk(data[12:], func(name string, body []byte) (err error) {
		switch {
		case name == "fmt ":
			f, err = readForm(body)
		case name == "data" && samples == nil:
			samples = body
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	get := sampleReader(f)
	if get == nil {
		return nil, errors.New("its samples are in a form that can't be measured")
	}
	w := &Wave{rate: int(f.rate), channels: make([][]float32, f.channels)}
	size, n := int(f.bits)/8, len(samples)/f.frame()
	if n*len(w.channels) > maxSamples {
		return nil, errLong
	}
	for c := range w.channels {
		w.channels[c] = make([]float32, n)
		for i := range n {
			w.channels[c][i] = get(samples[i*f.frame()+c*size:])
		}
	}
	return w, nil
}

// sampleReader reads one sample; nil for a form that is not known.
func sampleReader(f wavForm) func([]byte) float32 {
	switch {
	case f.tag == wavPCM && f.bits == 8:
		return func(b []byte) float32 { return float32(int(b[0])-128) / 128 }
	case f.tag == wavPCM && f.bits == 16:
		return func(b []byte) float32 { return float32(int16(binary.LittleEndian.Uint16(b))) / (1 << 15) }
	case f.tag == wavPCM && f.bits == 24:
		return func(b []byte) float32 {
			return float32(int32(uint32(b[0])<<8|uint32(b[1])<<16|uint32(b[2])<<24)) / (1 << 31)
		}
	case f.tag == wavPCM && f.bits == 32:
		return func(b []byte) float32 { return float32(int32(binary.LittleEndian.Uint32(b))) / (1 << 31) }
	case f.tag == wavFloat && f.bits == 32:
		return func(b []byte) float32 { return math.Float32frombits(binary.LittleEndian.Uint32(b)) }
	case f.tag == wavFloat && f.bits == 64:
		return func(b []byte) float32 { return float32(math.Float64frombits(binary.LittleEndian.Uint64(b))) }
	}
	return nil
}
