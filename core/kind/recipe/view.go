package recipe

import (
	"crypto/sha256"
	"hash"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind/nested"
)

// viewer turns what a kind has read into what people see, in place: keys by the
// rules, noise left out, embedded content opened.
type viewer struct {
	rules  *rules
	reader *nested.Reader
	opened bool      // something was opened
	hidden hash.Hash // of what was left out; nil for nothing
	// former gives the names that styles have in the file by those that they have in the view.
	former map[string]string
}

// root views a document. Rules count from its root element: the only child of
// the root of an XML tree, else the root itself.
func (v *viewer) root(root *element.Element) {
	if root.Type == "xml" && len(root.Children) == 1 {
		v.keys(nil, root)
		v.element(root.Children[:1:1])
		v.former = namesByContent(root.Children[0])
		return
	}
	v.element([]*element.Element{root})
}

// element views the last element of a line that begins at the document's root.
func (v *viewer) element(line []*element.Element) {
	e := line[len(line)-1]
	var s said
	if len(v.rules.all) > 0 {
		s = v.rules.say(line)
		v.keys(line, e)
	}
	if s.ordered != nil {
		e.Ordered = *s.ordered
	}
	for _, c := range e.Children {
		v.element(append(line[:len(line):len(line)], c))
	}
	if len(s.noise) > 0 {
		v.leaveOut(e, s.noise)
	}
	if v.reader.Open(e, s.embedded) {
		v.opened = true
	}
	if v.rules.report != nil {
		v.rules.report.look(line, v.rules.at(line))
	}
}

func (v *viewer) leaveOut(e *element.Element, noise []string) {
	e.Props = slices.DeleteFunc(slices.Clone(e.Props), func(p element.Prop) bool {
		return slices.Contains(noise, p.Name) && v.drop(&element.Element{Props: []element.Prop{p}})
	})
	e.Children = slices.DeleteFunc(slices.Clone(e.Children), func(c *element.Element) bool {
		name := v.rules.nameOf(c)
		return (slices.Contains(noise, name) || slices.Contains(noise, name+"="+c.Key)) && v.drop(c)
	})
}

// drop notes what is left out.
func (v *viewer) drop(e *element.Element) bool {
	if v.rules.report != nil {
		v.rules.report.Noise++
	}
	if v.hidden == nil {
		v.hidden = sha256.New()
	}
	sum := e.Sum()
	v.hidden.Write(sum[:])
	return true
}

// left gives the digest of what was left out, in this document and in what it holds.
func (v *viewer) left() element.Digest {
	below := v.reader.Hidden()
	if v.hidden == nil {
		return below
	}
	v.hidden.Write(below[:])
	return element.Digest(v.hidden.Sum(nil))
}

// keys gives the children of e the keys that rules make. Children of one type
// and key have none.
func (v *viewer) keys(line []*element.Element, e *element.Element) {
	type id struct{ typ, key string }
	made, count := map[int]string{}, map[id]int{}
	for i, c := range e.Children {
		names := v.rules.say(append(line[:len(line):len(line)], c)).key
		if names == nil {
			count[id{c.Type, c.Key}]++
			continue
		}
		made[i] = v.rules.keyOf(c, names)
		count[id{c.Type, made[i]}]++
	}
	for i, key := range made {
		c := e.Children[i]
		if key != "" && count[id{c.Type, key}] > 1 {
			if v.rules.report != nil {
				v.rules.report.twice(append(line[:len(line):len(line)], c), key)
			}
			key = ""
		}
		if v.rules.data && structural[c.Type] && c.Key != "" && c.Key != key {
			c.Props = append([]element.Prop{{Name: NameProperty, Value: element.TextValue(c.Key)}}, c.Props...)
		}
		c.Key = key
		c.Firm = c.Firm || key != ""
	}
}
