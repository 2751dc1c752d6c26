// Package choice holds what people chose where the two sides of a merge are in conflict, in a
// form that can be kept: the merge is computed anew with the choices each time.
package choice

import (
	"encoding/binary"
	"encoding/hex"
	"regexp"
	"slices"
	"strings"

	"lukechampine.com/blake3"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// Made is a choice that somebody made, as it is kept.
type Made struct {
	Address string `json:"address"`
	Keep    string `json:"keep"`
	// Sort and Value are those of a value that was written; empty for a side that is kept.
	Sort  string `json:"sort,omitempty"`
	Value string `json:"value,omitempty"`
}

// Make settles a conflict; value is used with element.KeepValue.
func Make(c element.Conflict, keep element.Keep, value string) (Made, error) {
	m := Made{Address: c.Address.String(), Keep: string(keep)}
	if !slices.Contains(c.Allows, keep) {
		words := make([]string, len(c.Allows))
		for i, k := range c.Allows {
			words[i] = string(k)
		}
		return m, fault.New(fault.Usage, "It can be settled with "+strings.Join(words, ", ")+".", "%s can't be settled with %s.",
			c.Address, keep)
	}
	if keep == element.KeepValue {
		sample := c.Mine.Value
		if sample.IsAbsent() {
			sample = c.Theirs.Value
		}
		if _, err := element.ParseLike(sample, value); err != nil {
			return m, fault.New(fault.Usage, "Write a value like "+sample.String()+".", "%s can't be set: %w.", c.Address, err)
		}
		m.Sort, m.Value = sortName(sample), value
	}
	return m, nil
}

// Choice gives it as a merge takes it.
func (m Made) Choice() element.Choice {
	return element.Choice{Keep: element.Keep(m.Keep), Value: m.value()}
}

func (m Made) value() element.Value {
	if m.Sort == "" {
		return element.Value{}
	}
	v, err := element.ParseLike(sampleOf(m.Sort), m.Value)
	if err != nil {
		return element.TextValue(m.Value)
	}
	return v
}

// Sides gives a digest of what stands against each other in a conflict, and of more that a
// choice goes by: one that was made of other sides says nothing of these.
func Sides(c element.Conflict, more ...[]byte) string {
	h := blake3.New(16, nil)
	write := func(data []byte) {
		_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(data)))) // never fails
		_, _ = h.Write(data)
	}
	for _, s := range []element.Side{c.Base, c.Mine, c.Theirs} {
		content, _ := s.Value.Content()
		write([]byte{byte(s.Value.Sort())})
		write([]byte(s.Value.Text()))
		write([]byte(s.Value.String()))
		write(content[:])
		if s.Element != nil {
			sum := s.Element.Sum()
			write(sum[:])
		}
	}
	for _, data := range more {
		write(data)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Meant gives what picks conflicts as a person named them: the one at an address, all of an
// artifact or folder when that is a path, or all whose addresses or paths fit a pattern. whole
// says that it names artifacts whole.
func Meant(text string) (of func([]element.Conflict) []element.Conflict, whole bool, err error) {
	fits := FitsAddress(text)
	var address element.Address
	if fits == nil {
		if address, err = element.ParseAddress(text); err != nil {
			return nil, false, fault.New(fault.Usage, "oaken conflicts lists the addresses.", "That is no address: %w.", err)
		}
	}
	of = func(list []element.Conflict) (out []element.Conflict) {
		for _, c := range list {
			if fits != nil {
				if fits(c.Address.String()) || fits(c.Address.Path) {
					out = append(out, c)
				}
			} else if c.Address.String() == address.String() || address.Whole() && state.Under([]string{address.Path}, c.Address.Path) {
				out = append(out, c)
			}
		}
		return out
	}
	return of, fits != nil || address.Whole(), nil
}

// FitsAddress gives a test for addresses that a person wrote with * for any text within a
// step, ** for any text at all and ? for any sign; nil when there is none of these.
func FitsAddress(pattern string) func(address string) bool {
	if !strings.ContainsAny(pattern, "*?") {
		return nil
	}
	var form strings.Builder
	form.WriteString("^")
	for i := 0; i < len(pattern); i++ {
		switch {
		case strings.HasPrefix(pattern[i:], "**"):
			form.WriteString(".*")
			i++
		case pattern[i] == '*':
			form.WriteString("[^/]*")
		case pattern[i] == '?':
			form.WriteString("[^/]")
		default:
			form.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		}
	}
	re, err := regexp.Compile("(?s)" + form.String() + "$")
	if err != nil { // a half of a letter
		return func(string) bool { return false }
	}
	return re.MatchString
}

// sampleOf gives a value of a sort by its name; `list of numbers` for a list.
func sampleOf(sort string) element.Value {
	switch sort {
	case "number":
		return element.IntValue(0)
	case "bool":
		return element.BoolValue(true)
	case "numbers":
		return element.ListValue(element.IntValue(0))
	case "texts":
		return element.ListValue(element.TextValue(""))
	}
	return element.TextValue("")
}

func sortName(v element.Value) string {
	switch v.Sort() {
	case element.Number:
		return "number"
	case element.Bool:
		return "bool"
	case element.List:
		if items := v.Items(); len(items) > 0 && items[0].Sort() == element.Number {
			return "numbers"
		}
		return "texts"
	}
	return "text"
}
