package manifest

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Companion declares a file that must travel with another: who commits, discards
// or restores one of them takes the other along.
type Companion struct {
	// Of is a pattern for the files that have one.
	Of string `toml:"of"`
	// Is writes the companion's path: {path} is that of the file, {folder} and
	// {name} are its two halves, {stem} the name without its ending.
	Is string `toml:"is"`
}

func (c Companion) check() error {
	if !doublestar.ValidatePattern(c.Of) || c.Of == "" || !strings.Contains(c.Is, "{") || c.expand("a/b.c") == "a/b.c" {
		return fmt.Errorf("a companion needs a well-formed pattern in of, and in is a path such as {path}.meta")
	}
	return nil
}

func (c Companion) expand(p string) string {
	name := path.Base(p)
	stem := strings.TrimSuffix(name, path.Ext(name))
	return path.Clean(strings.NewReplacer("{path}", p, "{folder}", path.Dir(p), "{name}", name, "{stem}", stem).Replace(c.Is))
}

// looksLike reports whether a path could be some file's companion.
func (c Companion) looksLike(p string) bool {
	form := regexp.QuoteMeta(c.Is)
	for _, field := range []string{"{path}", "{folder}", "{name}", "{stem}"} {
		form = strings.ReplaceAll(form, regexp.QuoteMeta(field), ".+")
	}
	ok, _ := regexp.MatchString("^"+form+"$", p)
	return ok
}

// CompanionsOf gives the paths of the companions that a file has, whether they
// are there or not. A companion has none itself.
func (m *Manifest) CompanionsOf(p string) []string {
	var out []string
	for _, c := range m.Companions {
		if ok, _ := doublestar.Match(c.Of, p); ok && !c.looksLike(p) {
			if is := c.expand(p); Inside(is) { // {folder} and dots may lead anywhere
				out = append(out, is)
			}
		}
	}
	return out
}

// LineRule says how the lines of text files end.
type LineRule struct {
	Match string `toml:"match"`
	// Ends is lf or crlf.
	Ends string `toml:"ends"`
}

// LineEnd gives how the lines of a file end by the rules, the last that fits:
// "\n", "\r\n", or empty when they are kept as they are.
func (m *Manifest) LineEnd(p string) string {
	end := ""
	for _, r := range m.Lines {
		if ok, _ := doublestar.Match(r.Match, p); ok {
			end = lineEnds[r.Ends]
		}
	}
	return end
}

var lineEnds = map[string]string{"lf": "\n", "crlf": "\r\n"}
