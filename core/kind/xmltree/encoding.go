package xmltree

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
)

// declared finds the encoding that an XML declaration names.
var declared = regexp.MustCompile(`^<\?xml[ \t\r\n][^>]*?encoding[ \t\r\n]*=[ \t\r\n]*["']([A-Za-z][A-Za-z0-9._-]*)["']`)

// encodingOf gives the encoding of a document (XML 1.0, appendix F): by its
// byte-order mark, else by its declaration; nil for UTF-8.
func encodingOf(data []byte) (encoding.Encoding, error) {
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("<\x00?\x00")):
		return utf16(unicode.LittleEndian, data), nil
	case bytes.HasPrefix(data, []byte("\xfe\xff")), bytes.HasPrefix(data, []byte("\x00<\x00?")):
		return utf16(unicode.BigEndian, data), nil
	}
	m := declared.FindSubmatch(data[:min(len(data), 400)])
	if m == nil || bytes.HasPrefix(data, []byte("\ufeff")) {
		return nil, nil
	}
	e, err := htmlindex.Get(string(m[1]))
	if err != nil {
		return nil, fmt.Errorf("it is in the encoding %s, which is not known", m[1])
	}
	if name, _ := htmlindex.Name(e); name == "utf-8" || name == "utf-16le" || name == "utf-16be" {
		return nil, nil
	}
	return e, nil
}

func utf16(order unicode.Endianness, data []byte) encoding.Encoding {
	if data[0] == '<' || data[1] == '<' {
		return unicode.UTF16(order, unicode.IgnoreBOM)
	}
	return unicode.UTF16(order, unicode.UseBOM)
}

// decoded gives a document in UTF-8, and how it is written back. Documents that
// would not come back byte for byte are refused.
func decoded(data []byte) ([]byte, func([]byte) ([]byte, error), error) {
	same := func(b []byte) ([]byte, error) { return b, nil }
	e, err := encodingOf(data)
	if err != nil || e == nil {
		return data, same, err
	}
	text, err := e.NewDecoder().Bytes(data)
	if err != nil {
		return nil, nil, errors.New("its bytes are not of the encoding that it names")
	}
	encode := func(b []byte) ([]byte, error) {
		out, err := e.NewEncoder().Bytes(b)
		if err != nil {
			return nil, errors.New("its encoding has no place for a character")
		}
		return out, nil
	}
	if back, err := encode(text); err != nil || !bytes.Equal(back, data) {
		return nil, nil, errors.New("its bytes are not of the encoding that it names")
	}
	return text, encode, nil
}
