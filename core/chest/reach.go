package chest

import (
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/ledger"
)

// Covers reports whether one address reaches another: the same path, one below it, or
// an element in it; the same element, one of its children, or a property.
func Covers(above, p string) bool {
	_, _, object := strings.Cut(above, "::")
	if object {
		return above == p || strings.HasPrefix(p, above+"/") || strings.HasPrefix(p, above+".")
	}
	p, _, _ = strings.Cut(p, "::")
	return above == "." || above == p || strings.HasPrefix(p, strings.TrimSuffix(above, "/")+"/")
}

// Reaches reports whether a lock reaches an address: all of what the address names.
func Reaches(l ledger.Lock, p string) bool {
	if !l.Pattern {
		return Covers(l.Address, p)
	}
	p, _, _ = strings.Cut(p, "::")
	ok, _ := doublestar.Match(l.Address, p)
	return ok
}

// Meet reports whether two locks can reach one thing.
func Meet(a, b ledger.Lock) bool {
	switch {
	case a.Pattern && b.Pattern:
		return patternsMeet(a.Address, b.Address)
	case b.Pattern:
		return Meet(b, a)
	case a.Pattern:
		p, _, object := strings.Cut(b.Address, "::")
		return p == "." || Reaches(a, p) || !object && b.Folder && patternsMeet(a.Address, escapePattern(p)+"/**")
	}
	return Covers(a.Address, b.Address) || Covers(b.Address, a.Address)
}

// escapePattern gives the pattern that fits a path alone.
func escapePattern(p string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`).Replace(p)
}

// patternsMeet reports whether some path can fit two patterns: folder by folder, ** for
// any number of folders; classes and alternatives count as any text, so that the
// answer errs towards yes.
func patternsMeet(a, b string) bool {
	return foldersMeet(strings.Split(simpler(a), "/"), strings.Split(simpler(b), "/"))
}

// simpler writes a pattern with * in place of classes and alternatives. A slash inside of
// alternatives makes ** of the rest of the pattern.
func simpler(p string) string {
	var out strings.Builder
	for i := 0; i < len(p); i++ {
		switch c := p[i]; c {
		case '\\':
			out.WriteByte(c)
			if i++; i < len(p) {
				out.WriteByte(p[i])
			}
		case '[', '{':
			end := strings.IndexByte(p[i:], map[byte]byte{'[': ']', '{': '}'}[c])
			if end < 0 || c == '{' && strings.ContainsAny(p[i:i+end], "/{") {
				head := out.String()
				return head[:strings.LastIndexByte(head, '/')+1] + "**"
			}
			out.WriteByte('*')
			i += end
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

func foldersMeet(a, b []string) bool {
	switch {
	case len(a) == 0 && len(b) == 0:
		return true
	case len(a) > 0 && a[0] == "**":
		return foldersMeet(a[1:], b) || len(b) > 0 && foldersMeet(a, b[1:])
	case len(b) > 0 && b[0] == "**":
		return foldersMeet(b, a)
	case len(a) == 0 || len(b) == 0:
		return false
	}
	return namesMeet(a[0], b[0]) && foldersMeet(a[1:], b[1:])
}

// namesMeet reports whether some name can fit two patterns of names.
func namesMeet(a, b string) bool {
	switch {
	case a == "" && b == "":
		return true
	case strings.HasPrefix(a, "*"):
		return namesMeet(strings.TrimLeft(a, "*"), b) || b != "" && namesMeet(a, rest(b))
	case strings.HasPrefix(b, "*"):
		return namesMeet(b, a)
	case a == "" || b == "":
		return false
	}
	x, y := first(a), first(b)
	return (x == y || x == "?" || y == "?") && namesMeet(rest(a), rest(b))
}

// first gives the first sign of a pattern of names; escaped ones stand for themselves.
func first(p string) string {
	if p[0] == '\\' && len(p) > 1 {
		return p[1:2]
	}
	return p[:1]
}

func rest(p string) string {
	if p[0] == '\\' && len(p) > 1 {
		return p[2:]
	}
	return p[1:]
}

// LockSet answers which of many locks reach an address.
type LockSet struct {
	at       map[string]ledger.Lock
	patterns []ledger.Lock
}

// NewLockSet takes locks in.
func NewLockSet(locks []ledger.Lock) *LockSet {
	s := &LockSet{at: make(map[string]ledger.Lock, len(locks))}
	for _, l := range locks {
		if l.Pattern {
			s.patterns = append(s.patterns, l)
		} else {
			s.at[l.Address] = l
		}
	}
	return s
}

// Over gives the locks that reach an address; none for the empty one.
func (s *LockSet) Over(p string) []ledger.Lock {
	if s == nil || p == "" {
		return nil
	}
	var out []ledger.Lock
	if len(s.at) > 0 {
		for _, a := range ledger.Above(p) {
			if l, ok := s.at[a]; ok {
				out = append(out, l)
			}
		}
	}
	for _, l := range s.patterns {
		if Reaches(l, p) {
			out = append(out, l)
		}
	}
	return out
}
