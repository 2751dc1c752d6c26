package kind

import (
	"bytes"
	"strings"
)

// LineRemarks lists comments that run from one of some signs to the end of their line: at
// the beginning of a line or, where behind says so, behind space on a line outside of
// quotes. One on a line of its own is about the next line that says something.
func LineRemarks(text, signs string, behind bool) []Remark {
	var out []Remark
	above := 0 // where those begin that wait for a line
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
		at := remarkAt(line, signs, behind)
		code := line
		if at >= 0 {
			code = strings.TrimSpace(line[:at])
			out = append(out, Remark{Text: line[at:]})
		}
		if code == "" {
			continue
		}
		for ; above < len(out); above++ {
			out[above].Of = lineKey(code)
		}
	}
	return out
}

// lineKey gives the part of a line that names what stands there.
func lineKey(code string) string {
	end := strings.IndexAny(code, ":=")
	switch {
	case strings.HasPrefix(code, "-"): // an item, with what names it
		if i := strings.IndexByte(code, ','); i >= 0 {
			code = code[:i]
		}
		end = -1
	case strings.HasPrefix(code, "["):
		end = -1
	}
	if end >= 0 {
		code = code[:end]
	}
	return strings.Trim(code, " \t\"'{}")
}

func remarkAt(line, signs string, behind bool) int {
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case strings.IndexByte(signs, c) >= 0 && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t'):
			return i
		case !behind && c != ' ' && c != '\t':
			return -1
		case (c == '"' || c == '\'') && (i == 0 || !wordly(line[i-1])):
			quote = c
		}
	}
	return -1
}

// wordly reports whether a quote behind a byte is an apostrophe.
func wordly(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

// LikeEnds gives a text the line ends of another one, when all lines of that end with
// \r\n. It is for texts in which line ends of both forms mean the same.
func LikeEnds(text, like []byte) []byte {
	n := bytes.Count(like, []byte("\n"))
	if n == 0 || bytes.Count(like, []byte("\r\n")) != n || bytes.Count(text, []byte("\r\n")) == bytes.Count(text, []byte("\n")) {
		return text
	}
	return bytes.ReplaceAll(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte("\r\n"))
}
