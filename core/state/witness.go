package state

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/spelling"
)

// witness merges how an artifact is written. The merge of its elements says what the
// outcome means; three versions of its files say how each side writes that. The outcome is
// the merge of those by lines and tokens, provided that it reads as what is meant.
type witness struct {
	r       *Reader
	path    string
	kind    kind.Writer
	meant   *element.Element
	content kind.Content
	settle  element.Settle
	// b, m and t are the three versions; b may be a version without files.
	b, m, t side3
	// unread is why the last outcome could not be read; nil when it could.
	unread error
	// settled says that somebody has settled something in the artifact.
	settled bool
}

// side3 is one version of an artifact.
type side3 struct {
	src     kind.Source
	reading *kind.Reading
	files   map[string][]byte
}

func newSide(a *Artifact) (side3, error) {
	s := side3{files: map[string][]byte{}}
	if a == nil {
		return s, nil
	}
	s.src, s.reading = a.Source, a.Reading
	for _, name := range a.Source.Files() {
		data, err := a.Source.File(name)
		if err != nil {
			return s, err
		}
		s.files[name] = data
	}
	return s, nil
}

// written is an outcome: its files, by name, and what could not be decided about how they
// are written.
type written struct {
	files map[string][]byte
	open  []element.Conflict
	// decided lists the places about which somebody has decided.
	decided []element.Conflict
}

// vouch makes conflicts of values that nobody had where they stand; mine stands there.
func (x *witness) vouch(b, m, t *element.Element) []element.Conflict {
	var out []element.Conflict
	for _, a := range element.Unvouched(x.path, b, m, t, x.meant) {
		value := func(root *element.Element) element.Side {
			return element.Side{Value: root.Find(a.Steps).Prop(a.Property)}
		}
		out = append(out, element.Conflict{Address: a, Base: value(b), Mine: value(m), Theirs: value(t),
			Allows: []element.Keep{element.KeepMine, element.KeepTheirs}})
		if grafted, ok := element.Graft(x.meant, m, a); ok {
			x.meant = grafted
		}
	}
	return out
}

// run gives the outcome; nil when none reads as what is meant.
func (x *witness) run() (*written, error) {
	x.hush()
	if !x.mechanical() {
		if out := x.together(x.b.files, x.m.files, x.t.files); out != nil && x.sound(out) {
			return out, nil
		}
	}
	// What is meant, as each version would write it.
	b, m, t := x.as(x.b), x.as(x.m), x.as(x.t)
	if b != nil && m != nil && t != nil && !x.mechanical() {
		if out := x.spelled(b, m, t); out != nil {
			return x.witnessed(out, m, t), nil
		}
	}
	for _, files := range []map[string][]byte{m, t} {
		if files = x.reformed(files); files != nil && x.reads(files) {
			return x.witnessed(&written{files: files}, m, t), nil
		}
	}
	return nil, nil
}

// reformed gives files the line ends, encodings and marks that either side changed.
func (x *witness) reformed(files map[string][]byte) map[string][]byte {
	out := maps.Clone(files)
	for name, data := range files {
		b, m, t := x.b.files[name], x.m.files[name], x.t.files[name]
		if m == nil || t == nil || b == nil {
			continue
		}
		if text, ok := spelling.Reform(b, m, t, data); ok {
			out[name] = text
		}
	}
	return out
}

// sound reports whether nothing is missing in an outcome, and nothing in it leads nowhere.
func (x *witness) sound(out *written) bool {
	missed := x.missed(out.files, nil)
	return len(missed.mine)+len(missed.theirs)+len(x.flaws(out.files)) == 0
}

// mechanical reports whether only programs write the artifact.
func (x *witness) mechanical() bool {
	k, ok := kind.Ability[kind.Mechanical](x.kind)
	return ok && k.Mechanical(x.path)
}

// hush gives base and theirs the noise of mine, which stands.
func (x *witness) hush() {
	h, ok := x.kind.(kind.Hushed)
	if !ok {
		return
	}
	for _, s := range []*side3{&x.b, &x.t} {
		if s.reading == nil || s.reading.Hidden == x.m.reading.Hidden {
			continue
		}
		files, err := h.Hush(s.src, x.m.src)
		if err != nil {
			continue
		}
		s.files, s.src = patch(s.files, files), overlay{s.src, files}
	}
}

// together is the merge of the files as they are, if it leaves nothing open.
func (x *witness) together(b, m, t map[string][]byte) *written {
	w := weaver{r: x.r, path: x.path}
	files, ok := w.files(b, m, t)
	if !ok || !x.reads(files) {
		return nil
	}
	return &written{files: files}
}

// spelled is the merge of three spellings of one meaning.
func (x *witness) spelled(b, m, t map[string][]byte) *written {
	w := weaver{r: x.r, path: x.path, settle: x.settle, sense: spelling.Spellings}
	files, ok := w.files(b, m, t)
	if !ok || !x.reads(files) {
		return nil
	}
	return &written{files: files, open: w.open, decided: w.decided}
}

// as gives the files of a version once they mean what is meant; nil when they can't.
func (x *witness) as(s side3) map[string][]byte {
	if s.src == nil {
		return nil
	}
	files, err := kind.WriteGuarded(x.kind, s.src, x.meant, x.content)
	if err != nil {
		return nil
	}
	for name, data := range files {
		if was := s.files[name]; data != nil && was != nil && bytes.IndexByte(was, 0) < 0 {
			files[name] = kind.LikeEnds(data, was)
		}
	}
	return patch(s.files, files)
}

// reads reports whether files mean what is meant.
func (x *witness) reads(files map[string][]byte) bool {
	edits := map[string][]byte{}
	for name, data := range files {
		if was, there := x.m.files[name]; !there || !bytes.Equal(was, data) {
			edits[name] = data
		}
	}
	for name := range x.m.files {
		if _, stays := files[name]; !stays {
			edits[name] = nil
		}
	}
	if len(edits) == 0 {
		return element.Compare(x.m.reading.Root, x.meant) == nil
	}
	again, err := kind.ReadGuarded(x.kind, overlay{x.m.src, edits})
	x.unread = err
	return err == nil && element.Compare(again.Root, x.meant) == nil
}

// witnessed holds an outcome against the remarks of the three versions: one that a side
// wrote or took away, and that did not arrive, is a conflict.
func (x *witness) witnessed(out *written, m, t map[string][]byte) *written {
	missed := x.missed(out.files, slices.Concat(out.open, out.decided))
	missed.theirs = append(missed.theirs, x.flaws(out.files)...)
	for _, name := range slices.Sorted(maps.Keys(x.t.files)) {
		if m, there := x.m.files[name]; there && spelling.Differ(x.b.files[name], m, x.t.files[name]) {
			missed.theirs = append(missed.theirs, "line ends or encoding of "+name)
		}
	}
	if len(missed.mine)+len(missed.theirs) == 0 {
		return out
	}
	text := func(list []string) element.Side {
		if list = slices.Compact(list); len(list) == 0 {
			return element.Side{}
		}
		return element.Side{Value: element.TextValue(strings.Join(list, "\n"))}
	}
	c := element.Conflict{Address: element.Address{Path: x.path, Property: element.WritingProperty}, Mine: text(missed.mine),
		Theirs: text(missed.theirs),
		Allows: []element.Keep{element.KeepMine}}
	if t != nil && x.reads(t) {
		c.Allows = append(c.Allows, element.KeepTheirs)
	}
	if x.settle != nil {
		if choice, ok := x.settle(c); ok && slices.Contains(c.Allows, choice.Keep) {
			if choice.Keep == element.KeepTheirs {
				return &written{files: t}
			}
			return out
		}
	}
	return &written{files: out.files, open: append(out.open, c)}
}

// missing lists remarks that did not arrive as a side has them.
type missing struct{ mine, theirs []string }

// flaws lists what leads nowhere in the outcome, and did not in mine or theirs.
func (x *witness) flaws(files map[string][]byte) []string {
	found := x.flawsOf(files)
	if len(found) == 0 {
		return nil
	}
	mine, theirs := x.flawsOf(x.m.files), x.flawsOf(x.t.files)
	var out []string
	for _, flaw := range slices.Sorted(maps.Keys(found)) {
		if !mine[flaw] && !theirs[flaw] {
			out = append(out, flaw)
		}
	}
	return out
}

func (x *witness) flawsOf(files map[string][]byte) map[string]bool {
	w := weaver{r: x.r, path: x.path}
	found := map[string]bool{}
	for name, data := range files {
		w.flaws(name, data, x.kind, found)
	}
	return found
}

// told reports whether a conflict shows a remark already.
func told(open []element.Conflict, remark string) bool {
	return slices.ContainsFunc(open, func(c element.Conflict) bool {
		return strings.Contains(c.Mine.Value.Text(), remark) || strings.Contains(c.Theirs.Value.Text(), remark) ||
			strings.Contains(c.Base.Value.Text(), remark)
	})
}

func (x *witness) missed(files map[string][]byte, open []element.Conflict) missing {
	var out missing
	for _, name := range slices.Sorted(maps.Keys(namesOf(x.b.files, x.m.files, x.t.files, files))) {
		b, m, t, r := x.remarks(name, x.b.files[name]), x.remarks(name, x.m.files[name]), x.remarks(name, x.t.files[name]),
			x.remarks(name, files[name])
		for _, remark := range slices.SortedFunc(maps.Keys(namesOf(b, m, t, r)), byText) {
			nb, nm, nt, nr := b[remark], m[remark], t[remark], r[remark]
			least, most := min(nm, nt), max(nm, nt, nm+nt-nb)
			switch {
			case nm == nb:
				least, most = nt, nt
			case nt == nb:
				least, most = nm, nm
			}
			if x.settled { // an element may have come back, or gone, by a choice
				if most = nb + nm + nt; remark.Of == anywhere || !stands(remark.Of, files[name]) {
					least = 0
				}
			}
			switch {
			case nr >= least && nr <= most, told(open, remark.Text):
			case nm == nr || nm == nb:
				out.theirs = append(out.theirs, remark.Text)
			default:
				out.mine = append(out.mine, remark.Text)
			}
		}
	}
	return out
}

// stands reports whether what a remark is about is in a file.
func stands(of string, data []byte) bool {
	words := strings.Fields(of)
	return len(words) > 0 && bytes.Contains(data, []byte(words[len(words)-1]))
}

// remarks counts what a file says outside of its elements.
func (x *witness) remarks(name string, data []byte) map[kind.Remark]int {
	w := weaver{r: x.r, path: x.path}
	out := map[kind.Remark]int{}
	w.remarks(name, data, x.kind, out)
	for r, n := range maps.Clone(out) { // wherever it stands
		out[kind.Remark{Text: r.Text, Of: anywhere}] += n
	}
	return out
}

// anywhere stands for all things that a remark may be about.
const anywhere = "*"

func byText(a, b kind.Remark) int {
	return cmp.Or(strings.Compare(a.Text, b.Text), strings.Compare(a.Of, b.Of))
}

func namesOf[K comparable, V any](all ...map[K]V) map[K]bool {
	out := map[K]bool{}
	for _, m := range all {
		for k := range m {
			out[k] = true
		}
	}
	return out
}

// patch gives files with edits; nil takes one away.
func patch(files, edits map[string][]byte) map[string][]byte {
	out := maps.Clone(files)
	for name, data := range edits {
		if data == nil {
			delete(out, name)
		} else {
			out[name] = data
		}
	}
	return out
}
