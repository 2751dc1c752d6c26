package state

import (
	"bytes"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/spelling"
)

// weaver merges files by their bytes: texts by lines and tokens, files that hold others
// entry by entry.
type weaver struct {
	r      *Reader
	path   string
	settle element.Settle
	// open lists what could not be decided; nothing may be when settle is nil.
	open []element.Conflict
	// decided lists what somebody has decided.
	decided []element.Conflict
	depth   int
	sense   spelling.Sense
	named   map[string]int // how often a clash was named alike
}

// deepest bounds files within files.
const deepest = 6

// files merges files by name; ok is false when bytes can't be merged, or, for want of
// somebody who decides, when there is a clash.
func (w *weaver) files(b, m, t map[string][]byte) (map[string][]byte, bool) {
	out := map[string][]byte{}
	for _, name := range slices.Sorted(maps.Keys(namesOf(b, m, t))) {
		data, there, ok := w.file(name, b, m, t)
		if !ok {
			return nil, false
		}
		if there {
			out[name] = data
		}
	}
	return out, true
}

func (w *weaver) file(name string, bs, ms, ts map[string][]byte) (data []byte, there, ok bool) {
	b, inB := bs[name]
	m, inM := ms[name]
	t, inT := ts[name]
	same := func(x, y []byte, inX, inY bool) bool { return inX == inY && bytes.Equal(x, y) }
	switch {
	case same(m, t, inM, inT), same(b, t, inB, inT):
		return m, inM, true
	case same(b, m, inB, inM):
		return t, inT, true
	case !inM || !inT:
		return nil, false, false
	}
	data, ok = w.bytes(name, b, m, t)
	return data, true, ok
}

// bytes merges three versions of one file.
func (w *weaver) bytes(name string, b, m, t []byte) ([]byte, bool) {
	if c, holds := w.container(name, m, t); holds && w.depth < deepest {
		return w.entries(c, b, m, t)
	}
	out, clashes, ok := spelling.Merge(b, m, t, w.sense, w.choose)
	if !ok || w.settle == nil && len(clashes) > 0 {
		return nil, false
	}
	return out, true
}

// container gives the kind that both versions of a file are held by.
func (w *weaver) container(name string, m, t []byte) (kind.Container, bool) {
	p := path.Join(path.Dir(w.path), name)
	c, ok := kind.Ability[kind.Container](w.r.Kinds.For(p, m[:min(len(m), kind.HeadSize)]))
	other, too := kind.Ability[kind.Container](w.r.Kinds.For(p, t[:min(len(t), kind.HeadSize)]))
	return c, ok && too && c.Name() == other.Name()
}

func (w *weaver) entries(c kind.Container, b, m, t []byte) ([]byte, bool) {
	mine, err1 := c.Entries(m)
	theirs, err2 := c.Entries(t)
	if err1 != nil || err2 != nil {
		return nil, false
	}
	base := map[string]kind.Entry{}
	if len(b) > 0 {
		var err error
		if base, err = c.Entries(b); err != nil {
			return nil, false
		}
	}
	w.depth++
	bodies, ok := w.files(bodiesOf(base), bodiesOf(mine), bodiesOf(theirs))
	w.depth--
	if !ok {
		return nil, false
	}
	out := make(map[string]kind.Entry, len(bodies))
	for name, data := range bodies {
		x, inMine := mine[name]
		y, inTheirs := theirs[name]
		e := kind.Entry{Data: data, Mode: x.Mode}
		switch z := base[name]; {
		case !inMine, inTheirs && x.Mode == z.Mode:
			e.Mode = y.Mode
		}
		out[name] = e
	}
	data, err := c.Refill(m, out, t)
	return data, err == nil
}

func bodiesOf(entries map[string]kind.Entry) map[string][]byte {
	out := make(map[string][]byte, len(entries))
	for name, e := range entries {
		out[name] = e.Data
	}
	return out
}

// choose asks about a clash.
func (w *weaver) choose(c spelling.Clash) spelling.Take {
	if w.settle == nil {
		return spelling.Open
	}
	text := func(s string) element.Side {
		if s == "" {
			return element.Side{}
		}
		return element.Side{Value: element.TextValue(s)}
	}
	conflict := element.Conflict{Address: w.name(c), Base: text(c.Base), Mine: text(c.Mine), Theirs: text(c.Theirs),
		Allows: []element.Keep{element.KeepMine, element.KeepTheirs, element.KeepBase}}
	if choice, ok := w.settle(conflict); ok {
		w.decided = append(w.decided, conflict)
		switch choice.Keep {
		case element.KeepMine:
			return spelling.Mine
		case element.KeepTheirs:
			return spelling.Theirs
		case element.KeepBase:
			return spelling.Base
		}
	}
	w.open = append(w.open, conflict)
	return spelling.Open
}

// longestName bounds, in characters, the words that a place is named by.
const longestName = 40

// name gives the address of a clash: the artifact, and the words that stand there, which
// stay the same when something else is decided.
func (w *weaver) name(c spelling.Clash) element.Address {
	words := ""
	for _, text := range []string{c.Mine, c.Base, c.Theirs} {
		for line := range strings.Lines(text) {
			if words == "" {
				words = strings.TrimSpace(line)
			}
		}
	}
	if words == "" {
		words = "space"
	}
	if runes := []rune(words); len(runes) > longestName {
		words = string(runes[:longestName]) + "…"
	}
	if !utf8.ValidString(words) {
		words = strings.ToValidUTF8(words, "?")
	}
	if w.named == nil {
		w.named = map[string]int{}
	}
	w.named[words]++
	kids := []*element.Element{}
	for range w.named[words] {
		kids = append(kids, &element.Element{Type: "place", Key: words})
	}
	element.Distinguish(kids)
	return element.Address{Path: w.path}.Below(element.Step{Type: "place", Key: kids[len(kids)-1].Key}).Of(element.WritingProperty)
}

// flaws gathers what leads nowhere in a file and in the files in it.
func (w *weaver) flaws(name string, data []byte, k kind.Kind, found map[string]bool) {
	if len(data) == 0 {
		return
	}
	if k == nil {
		k = w.r.Kinds.For(path.Join(path.Dir(w.path), name), data[:min(len(data), kind.HeadSize)])
	}
	if sees, ok := kind.Ability[kind.Examiner](k); ok {
		for _, flaw := range sees.Flaws(data) {
			found[flaw] = true
		}
	}
	w.inside(k, data, func(name string, data []byte) { w.flaws(name, data, nil, found) })
}

// inside visits the files in a file.
func (w *weaver) inside(k kind.Kind, data []byte, visit func(name string, data []byte)) {
	c, ok := kind.Ability[kind.Container](k)
	if !ok || w.depth >= deepest {
		return
	}
	entries, err := c.Entries(data)
	if err != nil {
		return
	}
	w.depth++
	for inside, e := range entries {
		visit(inside, e.Data)
	}
	w.depth--
}

// remarks counts what a file says outside of its elements, by the kind that reads it, and
// what the files in it say.
func (w *weaver) remarks(name string, data []byte, k kind.Kind, count map[kind.Remark]int) {
	if len(data) == 0 {
		return
	}
	if k == nil {
		k = w.r.Kinds.For(path.Join(path.Dir(w.path), name), data[:min(len(data), kind.HeadSize)])
	}
	if says, ok := kind.Ability[kind.Remarker](k); ok {
		for _, remark := range says.Remarks(data) {
			count[remark]++
		}
	}
	w.inside(k, data, func(name string, data []byte) { w.remarks(name, data, nil, count) })
}
