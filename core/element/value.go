package element

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
)

// Digest is the SHA-256 (FIPS 180-4) of a run of bytes or of an encoded tree.
type Digest [32]byte

// DigestOf gives the SHA-256 of data.
func DigestOf(data []byte) Digest { return sha256.Sum256(data) }

// Short gives the first characters of the digest in hexadecimal, for people.
func (d Digest) Short() string { return hex.EncodeToString(d[:4]) }

// MarshalText writes all of it in hexadecimal.
func (d Digest) MarshalText() ([]byte, error) { return hex.AppendEncode(nil, d[:]), nil }

// UnmarshalText reads what MarshalText writes.
func (d *Digest) UnmarshalText(text []byte) error {
	if hex.DecodedLen(len(text)) != len(d) {
		return fmt.Errorf("%q is no digest", text)
	}
	_, err := hex.Decode(d[:], text)
	return err
}

// Sort says what a Value holds.
type Sort uint8

// The sorts of a Value. Absent is the zero Value: no such property.
const (
	Absent Sort = iota
	Null
	Text
	Number
	Bool
	List
	Bytes
)

// Value is a property's value. The zero Value is Absent.
type Value struct {
	sort Sort
	text string // Text; Number: the literal as written; Bool: "true" or "false"
	more *more  // List, Bytes
}

// more is what the rarer sorts hold; most values are texts, and are kept small.
type more struct {
	list   []Value
	digest Digest
	size   int64
}

var none more

// rest gives what the rarer sorts hold, also of a value that has nothing of it.
func (v Value) rest() *more {
	if v.more == nil {
		return &none
	}
	return v.more
}

// NullValue is an explicit nothing, as JSON's null.
func NullValue() Value { return Value{sort: Null} }

// TextValue holds s.
func TextValue(s string) Value { return Value{sort: Text, text: s} }

// NumberValue holds a decimal literal exactly as it was written.
func NumberValue(literal string) Value { return Value{sort: Number, text: literal} }

// IntValue holds n.
func IntValue(n int64) Value { return NumberValue(strconv.FormatInt(n, 10)) }

// BoolValue holds b.
func BoolValue(b bool) Value { return Value{sort: Bool, text: strconv.FormatBool(b)} }

// ListValue holds the items in order.
func ListValue(items ...Value) Value { return Value{sort: List, more: &more{list: items}} }

// BytesValue stands for size bytes with the given digest.
func BytesValue(d Digest, size int64) Value {
	return Value{sort: Bytes, more: &more{digest: d, size: size}}
}

// Sort says what v holds.
func (v Value) Sort() Sort { return v.sort }

// IsAbsent reports whether v is no value at all.
func (v Value) IsAbsent() bool { return v.sort == Absent }

// Text gives the text of a Text, the literal of a Number, the word of a Bool.
func (v Value) Text() string { return v.text }

// Items gives the items of a List.
func (v Value) Items() []Value { return v.rest().list }

// Content gives the digest and size in bytes of a Bytes value.
func (v Value) Content() (Digest, int64) { return v.rest().digest, v.rest().size }

// Equal reports whether two values mean the same. Numbers are compared by
// value without loss: 1, 1.0 and 10e-1 are equal.
func (v Value) Equal(w Value) bool {
	if v.sort != w.sort {
		return false
	}
	switch v.sort {
	case Number:
		return v.text == w.text || canonicalNumber(v.text) == canonicalNumber(w.text)
	case List:
		if len(v.rest().list) != len(w.rest().list) {
			return false
		}
		for i := range v.rest().list {
			if !v.rest().list[i].Equal(w.rest().list[i]) {
				return false
			}
		}
		return true
	case Bytes:
		return v.rest().digest == w.rest().digest && v.rest().size == w.rest().size
	default:
		return v.text == w.text
	}
}

// String writes v for people: a list as its items with spaces between, bytes
// as size and digest.
func (v Value) String() string {
	switch v.sort {
	case Absent:
		return "(none)"
	case Null:
		return "null"
	case List:
		parts := make([]string, len(v.rest().list))
		for i, it := range v.rest().list {
			parts[i] = it.String()
			if it.sort == Text && (it.text == "" || strings.ContainsAny(it.text, " \t\n")) {
				parts[i] = strconv.Quote(it.text)
			}
		}
		return strings.Join(parts, " ")
	case Bytes:
		return SizeText(v.rest().size) + " " + v.rest().digest.Short()
	default:
		return v.text
	}
}

// SizeText writes a number of bytes for people, in B, KiB, MiB, GiB or TiB.
func SizeText(n int64) string {
	if n < 1024 {
		return strconv.FormatInt(n, 10) + " B"
	}
	f, units := float64(n), []string{"KiB", "MiB", "GiB", "TiB"}
	unit := ""
	for _, u := range units {
		f, unit = f/1024, u
		if f < 1023.95 {
			break
		}
	}
	return strconv.FormatFloat(f, 'f', 1, 64) + " " + unit
}

// ParseLike reads s as a value of the same sort as sample: for `--value`, where
// the person writes text and the property says what it is.
func ParseLike(sample Value, s string) (Value, error) {
	switch sample.sort {
	case Number:
		if !IsNumber(s) && IsNumber(sample.text) { // others are dates and the like, as they are written
			return Value{}, fmt.Errorf("%q is not a number", s)
		}
		return NumberValue(s), nil
	case Bool:
		if s != "true" && s != "false" {
			return Value{}, fmt.Errorf("%q is neither true nor false", s)
		}
		return BoolValue(s == "true"), nil
	case List:
		var items []Value
		for i, f := range strings.Fields(s) {
			var like Value
			if len(sample.rest().list) > 0 {
				like = sample.rest().list[min(i, len(sample.rest().list)-1)]
			}
			it, err := ParseLike(like, f)
			if err != nil {
				return Value{}, err
			}
			items = append(items, it)
		}
		return ListValue(items...), nil
	case Bytes:
		return Value{}, fmt.Errorf("this property stands for bytes; keep one of the sides")
	default:
		return TextValue(s), nil
	}
}

// IsNumber reports whether s is a JSON number (RFC 8259, section 6).
func IsNumber(s string) bool {
	i := 0
	if i < len(s) && s[i] == '-' {
		i++
	}
	digits := func() bool {
		start := i
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
		return i > start
	}
	start := i
	if !digits() || (s[start] == '0' && i-start > 1) {
		return false
	}
	if i < len(s) && s[i] == '.' {
		i++
		if !digits() {
			return false
		}
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if !digits() {
			return false
		}
	}
	return i == len(s)
}

// canonicalNumber gives one spelling for all literals of a number: sign,
// digits without outer zeros, and the power of ten of the last digit.
func canonicalNumber(lit string) string {
	if !IsNumber(lit) {
		return lit
	}
	sign := ""
	if lit[0] == '-' {
		sign, lit = "-", lit[1:]
	}
	exp := int64(0)
	if i := strings.IndexAny(lit, "eE"); i >= 0 {
		e, err := strconv.ParseInt(lit[i+1:], 10, 32)
		if err != nil {
			return sign + lit
		}
		exp, lit = e, lit[:i]
	}
	if i := strings.IndexByte(lit, '.'); i >= 0 {
		exp -= int64(len(lit) - i - 1)
		lit = lit[:i] + lit[i+1:]
	}
	trimmed := strings.TrimRight(lit, "0")
	exp += int64(len(lit) - len(trimmed))
	trimmed = strings.TrimLeft(trimmed, "0")
	if trimmed == "" {
		return "0"
	}
	return sign + trimmed + "e" + strconv.FormatInt(exp, 10)
}
