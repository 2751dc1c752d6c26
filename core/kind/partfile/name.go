// Package partfile is what kinds share when they take an artifact apart: file
// names made from keys, and the file format of one element.
package partfile

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// maxName bounds a name in bytes, well under what file systems take.
const maxName = 120

// reserved are the device names that some systems give to no file.
var reserved = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true}

// IsReserved reports whether some systems give a name, without its ending, to no file.
func IsReserved(stem string) bool {
	stem = strings.ToLower(stem)
	if len(stem) == 4 && (strings.HasPrefix(stem, "com") || strings.HasPrefix(stem, "lpt")) && stem[3] >= '0' && stem[3] <= '9' {
		return true
	}
	return reserved[stem]
}

// Safe makes one path component out of any key: legal on every file system, the
// key itself where that is possible. Other characters become %XX, as in URLs
// (RFC 3986, section 2.1); a long name ends with a digest of the key.
func Safe(key string) string {
	var b strings.Builder
	for i, r := range key {
		size := utf8.RuneLen(r)
		switch {
		case r == utf8.RuneError || strings.ContainsRune(`<>:"/\|?*%`, r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r),
			r == '.' && (i == 0 || i == len(key)-1), r == ' ' && (i == 0 || i == len(key)-1), r == '~' && i == 0:
			for _, c := range []byte(key[i:min(i+max(size, 1), len(key))]) {
				fmt.Fprintf(&b, "%%%02X", c)
			}
		default:
			b.WriteRune(r)
		}
	}
	name := b.String()
	if stem, _, _ := strings.Cut(name, "."); IsReserved(stem) {
		name = fmt.Sprintf("%%%02X%s", name[0], name[1:])
	}
	if name == "" {
		name = "%"
	}
	if len(name) > maxName {
		cut := maxName
		for !utf8.RuneStart(name[cut]) {
			cut--
		}
		name = name[:cut] + "%" + mark(key)
	}
	return name
}

func mark(key string) string {
	sum := sha256.Sum256([]byte(key))
	return hex.EncodeToString(sum[:4])
}

// SafePath applies Safe to each component of a path with / between names.
func SafePath(p string) string {
	names := strings.Split(p, "/")
	for i, n := range names {
		names[i] = Safe(n)
	}
	return strings.Join(names, "/")
}

// Names gives out file names that are distinct on systems that take capital and
// small letters for one.
type Names map[string]bool

// Take gives base+ext, or, when that is taken, base with a mark made from key.
func (n Names) Take(base, ext, key string) string {
	name := base + ext
	for i := 0; n[strings.ToLower(name)]; i++ {
		name = base + "%" + mark(fmt.Sprint(key, strings.Repeat("+", i))) + ext
	}
	n[strings.ToLower(name)] = true
	return name
}
