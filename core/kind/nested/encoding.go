package nested

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"

	"oakenchest/core/kind"
)

// An encoding is how text holds content: a way of writing bytes as text, then,
// with a space between, one of compressing them: `base64`, `hex zlib`.
const (
	Base64  = "base64"  // RFC 4648, section 4
	Hex     = "hex"     // RFC 4648, section 8; capital or small letters
	Percent = "percent" // RFC 3986, section 2.1
	Plain   = "text"    // a text that is a file of its own
)

// compressions are those that an encoding may name second: gzip (RFC 1952), zlib
// (RFC 1950), deflate (RFC 1951).
var compressions = []string{"gzip", "zlib", "deflate"}

// CheckEncoding says what is wrong with an encoding's name.
func CheckEncoding(name string) error {
	text, packed, two := strings.Cut(name, " ")
	if !slices.Contains([]string{Base64, Hex, Percent, Plain}, text) || two && (text == Plain || !slices.Contains(compressions, packed)) {
		return fmt.Errorf("%q is no encoding: write base64, hex, percent or text, and gzip, zlib or deflate behind it when it is compressed", name)
	}
	return nil
}

var errEncoding = errors.New("it is not encoded like that")

// Decode gives the content of a text, and takes what it unpacks of a budget. Text that other text
// could stand for as well is refused, so that Encode gives it back; compressed
// content may be compressed otherwise.
func Decode(text, encoding string, b *kind.Budget) ([]byte, error) {
	how, packed, compressed := strings.Cut(encoding, " ")
	data, err := decodeText(text, how)
	if err != nil || !compressed {
		return data, err
	}
	return inflate(data, packed, b)
}

func decodeText(text, how string) ([]byte, error) {
	var data []byte
	var err error
	switch how {
	case Base64:
		data, err = base64.StdEncoding.DecodeString(text)
	case Hex:
		data, err = hex.DecodeString(text)
	case Percent:
		data, err = decodePercent(text)
	case Plain:
		data = []byte(text)
	}
	if err == nil && encodeText(data, how, text) != text {
		err = errEncoding
	}
	return data, err
}

// Encode is the reverse of Decode; like is a text whose habits are kept.
func Encode(data []byte, encoding, like string) (string, error) {
	how, packed, compressed := strings.Cut(encoding, " ")
	if compressed {
		var err error
		if data, err = deflate(data, packed); err != nil {
			return "", err
		}
	}
	return encodeText(data, how, like), nil
}

func encodeText(data []byte, how, like string) string {
	switch how {
	case Base64:
		return base64.StdEncoding.EncodeToString(data)
	case Hex:
		if strings.ContainsAny(like, "ABCDEF") {
			return strings.ToUpper(hex.EncodeToString(data))
		}
		return hex.EncodeToString(data)
	case Percent:
		return encodePercent(data, like)
	default:
		return string(data)
	}
}

func decodePercent(text string) ([]byte, error) {
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if text[i] != '%' {
			out = append(out, text[i])
			continue
		}
		if i+3 > len(text) {
			return nil, errEncoding
		}
		b, err := hex.DecodeString(text[i+1 : i+3])
		if err != nil {
			return nil, err
		}
		out, i = append(out, b...), i+2
	}
	return out, nil
}

// encodePercent writes what is not unreserved as %XX, but for signs that stand as
// they are in like.
func encodePercent(data []byte, like string) string {
	const unreserved = "-._~"
	var literal, written [256]bool
	for i := 0; i < len(like); i++ {
		if like[i] != '%' {
			literal[like[i]] = true
		} else if b, err := hex.DecodeString(like[i+1 : min(i+3, len(like))]); err == nil && len(b) == 1 {
			written[b[0]] = true
			i += 2
		}
	}
	form := "%%%02X"
	if strings.ContainsAny(percentDigits(like), "abcdef") {
		form = "%%%02x"
	}
	var b strings.Builder
	for _, c := range data {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(unreserved, c) >= 0
		if literal[c] || letter && !written[c] {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, form, c)
		}
	}
	return b.String()
}

// percentDigits gives the digits behind the percent signs of a text.
func percentDigits(text string) string {
	var b strings.Builder
	for i := 0; i+2 < len(text); i++ {
		if text[i] == '%' {
			b.WriteString(text[i+1 : i+3])
		}
	}
	return b.String()
}

func inflate(data []byte, how string, b *kind.Budget) ([]byte, error) {
	var r io.Reader
	var err error
	switch how {
	case "gzip":
		r, err = gzip.NewReader(bytes.NewReader(data))
	case "zlib":
		r, err = zlib.NewReader(bytes.NewReader(data))
	default:
		r = flate.NewReader(bytes.NewReader(data))
	}
	if err != nil {
		return nil, err
	}
	out, err := io.ReadAll(io.LimitReader(r, b.Left()+1))
	return out, errors.Join(err, b.Decoded(int64(len(out)))) // also what was unpacked in vain
}

func deflate(data []byte, how string) ([]byte, error) {
	var b bytes.Buffer
	var w io.WriteCloser
	switch how {
	case "gzip":
		w = gzip.NewWriter(&b)
	case "zlib":
		w = zlib.NewWriter(&b)
	default:
		f, err := flate.NewWriter(&b, flate.DefaultCompression)
		if err != nil {
			return nil, err
		}
		w = f
	}
	_, err := w.Write(data)
	err = errors.Join(err, w.Close())
	return b.Bytes(), err
}
