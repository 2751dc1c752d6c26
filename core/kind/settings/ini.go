package settings

import (
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/element"
)

// iniSyntax is the common ground of INI files: `[section]` headers, entries with =
// or : behind the key, comments that begin with ; # or !. A line that ends with
// a backslash goes on in the next, as in .properties files; so does a value above
// lines that are indented further. A line without = or : is an entry without a value.
type iniSyntax struct{}

func (iniSyntax) sign() string { return "=" }
func (iniSyntax) nests() bool  { return false }

func (iniSyntax) remarks() string { return ";#!" }

func (iniSyntax) parse(src string) (*document, error) {
	top := &section{}
	d := &document{src: src, sections: []*section{top}}
	at := len(src) - len(strings.TrimPrefix(src, "\ufeff"))
	top.from, top.to, top.end = at, at, at
	for n := 1; at < len(src); n++ {
		line, next := lineAt(src, at)
		body := strings.TrimSpace(line)
		s := d.sections[len(d.sections)-1]
		switch {
		case body == "" || strings.ContainsRune(";#!", rune(body[0])):
		case body[0] == '[':
			name, ok := strings.CutSuffix(strings.TrimPrefix(body, "["), "]")
			if name = strings.TrimSpace(name); !ok || name == "" {
				return nil, fmt.Errorf("line %d: a section's name stands in no brackets", n)
			}
			d.sections = append(d.sections, &section{path: []string{name}, from: at, to: next, end: next})
		case line[0] == ' ' || line[0] == '\t':
			// it goes on with the value above
			if n := len(s.entries); n > 0 && s.entries[n-1].to == at && indent(line) > indent(src[s.entries[n-1].from:]) {
				e := s.entries[n-1]
				e.valueTo, e.to, s.end = at+len(strings.TrimRight(line, " \t")), next, next
				e.value = element.TextValue(src[e.valueAt:e.valueTo])
				break
			}
			fallthrough
		default:
			for strings.HasSuffix(line, "\\") && !strings.HasSuffix(line, "\\\\") && next < len(src) {
				_, further := lineAt(src, next)
				line, next = strings.TrimRight(src[at:further], "\r\n"), further
				n++
			}
			e, err := iniEntry(line, at, next)
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", n, err)
			}
			s.entries, s.end = append(s.entries, e), next
		}
		at = next
	}
	return d, nil
}

// indent gives the number of blanks that a line begins with.
func indent(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

// lineAt gives the line that begins at a byte, without its end, and where the
// next one begins.
func lineAt(src string, at int) (string, int) {
	if i := strings.IndexByte(src[at:], '\n'); i >= 0 {
		return strings.TrimSuffix(src[at:at+i], "\r"), at + i + 1
	}
	return src[at:], len(src)
}

func iniEntry(line string, from, to int) (*entry, error) {
	i := strings.IndexAny(line, "=:")
	if i < 0 {
		end := from + len(strings.TrimRight(line, " \t"))
		return &entry{path: []string{strings.TrimSpace(line)}, from: from, to: to, valueAt: end, valueTo: end,
			value: element.NullValue()}, nil
	}
	key := strings.TrimSpace(line[:i])
	if key == "" {
		return nil, errors.New("an entry without a key")
	}
	body := line[i+1:]
	begin := i + 1 + len(body) - len(strings.TrimLeft(body, " \t"))
	value := strings.TrimRight(line[begin:], " \t")
	return &entry{path: []string{key}, from: from, to: to, valueAt: from + begin, valueTo: from + begin + len(value),
		value: element.TextValue(value)}, nil
}

func (iniSyntax) key(path []string) (string, error) {
	key := path[0]
	if len(path) > 1 || key == "" || strings.ContainsAny(key, "=:\r\n") || strings.TrimSpace(key) != key ||
		strings.ContainsRune(";#![", rune(key[0])) {
		return "", fmt.Errorf("%q can't be a key", strings.Join(path, "."))
	}
	return key, nil
}

func (iniSyntax) value(v element.Value, _ string) (string, error) {
	if v.Sort() != element.Text {
		return "", errors.New("only text can be the value of an entry")
	}
	return v.Text(), nil // what would be read otherwise is found when the file is read again
}

func (iniSyntax) object(*element.Element) (string, error) { return "", errPlace }

func (iniSyntax) header(path []string, _ bool) (string, error) {
	if len(path) != 1 || strings.ContainsAny(path[0], "[]\r\n") {
		return "", errPlace
	}
	return "[" + path[0] + "]", nil
}
