package sound

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
	"unicode/utf8"
)

// ogg reads the first packets and the last page of an Ogg stream (RFC 3533) of
// Vorbis, Opus (RFC 7845) or FLAC sound.
func (p *parts) ogg(data []byte) error {
	var packets [][]byte // the first two
	var open []byte
	last, body := int64(0), 0 // the last position, and where the pages of samples begin
	for at := 0; at < len(data); {
		page, err := readPage(data[at:])
		if err != nil {
			return err
		}
		if page.position > 0 {
			last = page.position
		}
		rest := page.body
		for _, s := range page.segments {
			if len(packets) == 2 {
				break
			}
			open, rest = append(open, rest[:s]...), rest[s:]
			if s < 255 {
				packets, open = append(packets, open), nil
				body = at + page.length
			}
		}
		at += page.length
	}
	if len(packets) < 2 {
		return errShort
	}
	if err := p.oggForm(packets[0], last); err != nil {
		return err
	}
	p.comments(packets[1])
	p.Stored(data[body:])
	return nil
}

// page is one page of an Ogg stream.
type page struct {
	position int64
	segments []byte // their lengths
	body     []byte
	length   int // of the whole page
}

func readPage(data []byte) (page, error) {
	const head = 27
	if len(data) < head || string(data[:4]) != "OggS" || len(data) < head+int(data[26]) {
		return page{}, errShort
	}
	p := page{position: int64(binary.LittleEndian.Uint64(data[6:])), segments: data[head : head+int(data[26])]}
	size := 0
	for _, s := range p.segments {
		size += int(s)
	}
	start := head + len(p.segments)
	if len(data) < start+size {
		return page{}, errShort
	}
	p.body, p.length = data[start:start+size], start+size
	return p, nil
}

// oggForm tells the form from the first packet.
func (p *parts) oggForm(head []byte, last int64) error {
	switch {
	case len(head) >= 16 && string(head[:7]) == "\x01vorbis":
		p.Root.Set("codec", textValue("Vorbis"))
		rate := int64(binary.LittleEndian.Uint32(head[12:]))
		p.form(rate, int64(head[11]), 0, last)
	case len(head) >= 19 && string(head[:8]) == "OpusHead":
		p.Root.Set("codec", textValue("Opus"))
		const rate = 48000 // the clock of Opus, whatever was recorded
		p.form(rate, int64(head[9]), 0, last-int64(binary.LittleEndian.Uint16(head[10:])))
	default:
		return errors.New("its codec is neither Vorbis nor Opus")
	}
	return nil
}

// comments adds the texts of a comment packet; one that is damaged adds none.
func (p *parts) comments(packet []byte) {
	rest, ok := bytes.CutPrefix(packet, []byte("\x03vorbis"))
	if !ok {
		if rest, ok = bytes.CutPrefix(packet, []byte("OpusTags")); !ok {
			return
		}
	}
	next := func() (string, bool) {
		if len(rest) < 4 || uint64(binary.LittleEndian.Uint32(rest)) > uint64(len(rest)-4) {
			return "", false
		}
		n := binary.LittleEndian.Uint32(rest)
		s := string(rest[4 : 4+n])
		rest = rest[4+n:]
		return s, true
	}
	vendor, ok := next()
	if !ok || len(rest) < 4 {
		return
	}
	if utf8.ValidString(vendor) {
		p.Root.Set("encoder", textValue(vendor))
	}
	count := binary.LittleEndian.Uint32(rest)
	rest = rest[4:]
	for range count {
		s, ok := next()
		if !ok {
			return
		}
		if key, value, has := strings.Cut(s, "="); has && utf8.ValidString(s) {
			p.Text(strings.ToLower(key), value)
		}
	}
}
