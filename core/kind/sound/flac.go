package sound

import (
	"bytes"
	"io"
	"strings"

	"github.com/mewkiz/flac"
	"github.com/mewkiz/flac/meta"
)

func (p *parts) flac(data []byte) error {
	s, err := flac.Parse(bytes.NewReader(data))
	if err != nil {
		return err
	}
	defer s.Close()
	p.form(int64(s.Info.SampleRate), int64(s.Info.NChannels), int64(s.Info.BitsPerSample), int64(s.Info.NSamples))
	for _, b := range s.Blocks {
		if c, ok := b.Body.(*meta.VorbisComment); ok {
			for _, t := range c.Tags {
				p.Text(strings.ToLower(t[0]), t[1])
			}
		}
	}
	rest := data[4:]
	for { // RFC 9639, section 8.1
		if len(rest) < 4 {
			return errShort
		}
		last, typ, n := rest[0]&0x80 != 0, meta.Type(rest[0]&0x7f), int(rest[1])<<16|int(rest[2])<<8|int(rest[3])
		if n > len(rest)-4 {
			return errShort
		}
		if typ == meta.TypePicture || typ == meta.TypeApplication || typ == meta.TypeCueSheet {
			p.Chunk(typ.String(), rest[4:4+n])
		}
		if rest = rest[4+n:]; last {
			p.Stored(rest)
			return nil
		}
	}
}

// decodeFLAC gives the samples of each channel, from -1 to 1.
func decodeFLAC(data []byte) (*Wave, error) {
	s, err := flac.New(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	w := &Wave{rate: int(s.Info.SampleRate), channels: make([][]float32, s.Info.NChannels)}
	scale := float32(int64(1) << (max(s.Info.BitsPerSample, 1) - 1))
	for {
		f, err := s.ParseNext()
		if err == io.EOF {
			return w, nil
		}
		if err != nil {
			return nil, err
		}
		if w.length()*len(w.channels) > maxSamples {
			return nil, errLong
		}
		for c := range min(len(w.channels), len(f.Subframes)) {
			for _, v := range f.Subframes[c].Samples {
				w.channels[c] = append(w.channels[c], float32(v)/scale)
			}
		}
	}
}
