package manifest

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Own reports whether a name is that of a workspace's own folder in any spelling that some file system
// takes for it: in other letters, with characters that are ignored, with a stream or dots and blanks at
// its end, or as the short name that old programs are given (Microsoft, "Naming Files, Paths, and
// Namespaces"; Unicode Standard Annex 15). Such a name is of no project, in no folder of it.
func Own(name string) bool {
	if name == always {
		return true
	}
	if len(name) < len(always) || name[0] < 0x80 && !strings.ContainsRune(".oO", rune(name[0])) {
		return false
	}
	plain := strings.Map(func(r rune) rune {
		if unicode.In(r, unicode.Cf, unicode.Variation_Selector) { // no glyph of their own
			return -1
		}
		return unicode.ToLower(r)
	}, norm.NFKC.String(name))
	plain, _, _ = strings.Cut(plain, ":")
	plain = strings.TrimRight(plain, ". ")
	if short, number, found := strings.Cut(plain, "~"); found {
		return short == "oaken" && strings.Trim(number, "0123456789") == ""
	}
	return plain == always
}

// OwnIn reports whether a path has such a name among its folders, or is called so itself.
func OwnIn(p string) bool {
	for name := range strings.SplitSeq(p, "/") {
		if Own(name) {
			return true
		}
	}
	return false
}
