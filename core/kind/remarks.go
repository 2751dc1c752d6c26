package kind

import "strings"

// LineRemarks lists comments that run from one of some signs to the end of their line: at
// the beginning of a line or, where behind says so, behind space on a line outside of
// quotes.
func LineRemarks(text, signs string, behind bool) []string {
	var out []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n \t")
		if at := remarkAt(line, signs, behind); at >= 0 {
			out = append(out, line[at:])
		}
	}
	return out
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
