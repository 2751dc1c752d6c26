// Package lines compares two texts line by line, and lines that were edited word
// by word, for people to read.
package lines

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"oakenchest/core/element"
)

// Row is a line of one text beside that of another. Numbers count from 1; 0
// stands for no line.
type Row struct {
	Was, Is       int
	Before, After string
	// WasMarks and IsMarks are runs of bytes, from and to, that differ between
	// the two versions of a line that was edited.
	WasMarks, IsMarks [][2]int
}

// Same reports whether the line is in both texts as it is.
func (r Row) Same() bool { return r.Was > 0 && r.Is > 0 && r.Before == r.After }

// MaxLines bounds the lines of a text that is compared.
const MaxLines = 200_000

// Compare lays two texts beside each other. Line ends make no difference. It
// gives false when a text has too many lines.
func Compare(was, is string) ([]Row, bool) {
	a, b := cut(was), cut(is)
	if len(a) > MaxLines || len(b) > MaxLines {
		return nil, false
	}
	var rows []Row
	i, j := 0, 0
	for _, p := range append(element.CommonRun(digests(a), digests(b)), [2]int{len(a), len(b)}) {
		rows = append(rows, between(a[i:p[0]], b[j:p[1]], i, j)...)
		i, j = p[0]+1, p[1]+1
		if p[0] < len(a) {
			rows = append(rows, Row{Was: i, Is: j, Before: a[p[0]], After: b[p[1]]})
		}
	}
	return rows, true
}

func cut(text string) []string {
	if text == "" {
		return nil
	}
	out := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i := range out {
		out[i] = strings.TrimSuffix(out[i], "\r")
	}
	return out
}

func digests(items []string) []element.Digest {
	known := make(map[string]element.Digest, len(items))
	out := make([]element.Digest, len(items))
	for i, s := range items {
		d, ok := known[s]
		if !ok {
			d = element.DigestOf([]byte(s))
			known[s] = d
		}
		out[i] = d
	}
	return out
}

// Lines in a gap of more than maxGap pairs are not looked at for likeness; two
// lines of which less than alike is common are different lines.
const (
	maxGap = 4096
	alike  = 0.4
)

// between lays out lines that no line of the other text equals: likest pairs, in
// order, are lines that were edited.
func between(a, b []string, from, to int) []Row {
	var rows []Row
	j := 0
	for i, line := range a {
		best, at := alike, -1
		for k := j; k < len(b) && len(a)*len(b) <= maxGap; k++ {
			if s := likeness(line, b[k]); s > best {
				best, at = s, k
			}
		}
		if at < 0 {
			rows = append(rows, Row{Was: from + i + 1, Before: line})
			continue
		}
		for ; j < at; j++ {
			rows = append(rows, Row{Is: to + j + 1, After: b[j]})
		}
		r := Row{Was: from + i + 1, Is: to + at + 1, Before: line, After: b[at]}
		r.WasMarks, r.IsMarks = Words(line, b[at])
		rows, j = append(rows, r), at+1
	}
	for ; j < len(b); j++ {
		rows = append(rows, Row{Is: to + j + 1, After: b[j]})
	}
	return rows
}

// likeness is the share of two lines' bytes that stand in common words.
func likeness(a, b string) float64 {
	x, y := Words(a, b)
	marked := 0
	for _, m := range append(x, y...) {
		marked += m[1] - m[0]
	}
	if len(a)+len(b) == 0 {
		return 1
	}
	return 1 - float64(marked)/float64(len(a)+len(b))
}

// Words gives the runs of bytes of two lines that differ, word by word.
func Words(a, b string) (inA, inB [][2]int) {
	x, y := words(a), words(b)
	i, j, ai, bi := 0, 0, 0, 0
	width := func(w []string) (n int) {
		for _, s := range w {
			n += len(s)
		}
		return n
	}
	for _, p := range append(element.CommonRun(digests(x), digests(y)), [2]int{len(x), len(y)}) {
		if n := width(x[i:p[0]]); n > 0 {
			inA = append(inA, [2]int{ai, ai + n})
			ai += n
		}
		if n := width(y[j:p[1]]); n > 0 {
			inB = append(inB, [2]int{bi, bi + n})
			bi += n
		}
		if p[0] < len(x) {
			ai, bi = ai+len(x[p[0]]), bi+len(y[p[1]])
		}
		i, j = p[0]+1, p[1]+1
	}
	return inA, inB
}

// maxWords bounds the words of a line that are told apart.
const maxWords = 2000

// words cuts a line into words, runs of space, and other signs one by one.
func words(s string) []string {
	var out []string
	class := func(r rune) int {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_':
			return 1
		case unicode.IsSpace(r):
			return 2
		}
		return 0
	}
	for len(s) > 0 && len(out) < maxWords {
		first, n := utf8.DecodeRuneInString(s)
		for c := class(first); c > 0 && n < len(s); {
			r, size := utf8.DecodeRuneInString(s[n:])
			if class(r) != c && !(r == '.' && digitAt(s, n-1) && digitAt(s, n+1)) {
				break
			}
			n += size
		}
		out, s = append(out, s[:n]), s[n:]
	}
	if s != "" {
		out = append(out, s)
	}
	return out
}

// digitAt reports whether a digit stands at a byte; the point in a number is no
// sign of its own.
func digitAt(s string, i int) bool { return i < len(s) && s[i] >= '0' && s[i] <= '9' }

// Fold gives the rows that differ with some rows around them, as runs of
// neighbours.
func Fold(rows []Row, around int) [][]Row {
	var out [][]Row
	end := -1 // of the last run
	for i, r := range rows {
		if r.Same() {
			continue
		}
		from, to := max(i-around, 0), min(i+around+1, len(rows))
		if from <= end && len(out) > 0 {
			out[len(out)-1] = append(out[len(out)-1], rows[end:max(to, end)]...)
		} else {
			out = append(out, append([]Row{}, rows[from:to]...))
		}
		end = max(to, end)
	}
	return out
}
