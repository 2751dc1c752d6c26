// Package kind says what a sort of artifact is: how its bytes are read as
// elements, how changed elements are written back, how it is taken apart into
// files.
//
// Storing and restoring never depend on a kind. A kind that can't read an
// artifact says why, and the artifact is then treated as opaque. Kinds hold no
// state and may be used by several goroutines.
package kind

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"sync"

	"oakenchest/core/element"
)

// ErrNoFile says that a Source has no such file.
var ErrNoFile = errors.New("no such file")

// ErrWhole says that there is nothing to take apart in an artifact.
var ErrWhole = errors.New("nothing in it is content of its own")

// MaxFile bounds, in bytes, a file that is read as elements; a larger one is
// treated as opaque.
const MaxFile = 256 << 20

// Source gives the bytes of one artifact.
type Source interface {
	// Path is the artifact's path: that of its only file, or of its folder.
	Path() string
	// Files lists the names of a folder's files below it, sorted; for a file its
	// base name alone.
	Files() []string
	// File reads a file by its name relative to the artifact's folder, or to the
	// folder that its only file lies in. ErrNoFile is wrapped when it is missing.
	File(name string) ([]byte, error)
}

// Compared is a Source that is read to be compared with another version of the artifact.
// A kind may leave out of the tree what it finds alike in both.
type Compared interface {
	Source
	// Beside gives the other version; nil for none.
	Beside() Source
}

// Content gives the bytes that a digest in a tree stands for.
type Content func(element.Digest) ([]byte, bool)

// Reading is an artifact read as elements.
type Reading struct {
	Root *element.Element
	// Content gives the bytes behind the Bytes values of Root. It may also know
	// the bytes of whole elements, by Element.Sum.
	Content Content
	// Hidden is a digest of what Root leaves out because it says nothing; zero when
	// it leaves out nothing.
	Hidden element.Digest
	// Placed lists the keys, as type:key, of elements that have no name of their own and
	// are known by their place in a list: the same key may be another thing in another version.
	Placed []string
	// Uses names the files beside the artifact's own that it was read from.
	Uses []string
}

// Kind is one sort of artifact.
type Kind interface {
	// Name is the word for the kind in oaken.toml and in output.
	Name() string
	// About says in one line what it reads and what its elements are.
	About() string
	// Claims says whether a file is of this kind, by its path and first bytes.
	Claims(path string, head []byte) bool
	// Read reads an artifact whole. The error says what is wrong with it, without
	// its path.
	Read(Source) (*Reading, error)
}

// Writer is a kind that can write a changed tree back, and so can merge.
type Writer interface {
	Kind
	// Write gives the files of the artifact, by the names that Source uses, that
	// differ when its tree becomes want, nil for one that goes; every byte that
	// does not stand for a difference stays. content gives the bytes of values that src does not have.
	Write(src Source, want *element.Element, content Content) (map[string][]byte, error)
}

// Owner is a kind of folders that reads only some of a folder's files; the
// others are artifacts of their own.
type Owner interface {
	Kind
	// Owns says whether a file of the folder, by its name below it, belongs.
	Owns(name string) bool
}

// Seamer is a kind that knows where in a file the bytes of one thing end and
// those of another begin, so that a change of one leaves the stored chunks of the
// others alone.
type Seamer interface {
	Kind
	// Seams gives such places, in ascending order, from the headers alone. It is
	// only a hint: a damaged file has none.
	Seams(file io.ReaderAt, size int64) []int64
}

// Quick is a kind whose elements say little about whether a file is sound: such
// a file is not read to be listed.
type Quick interface {
	Kind
	Quick()
}

// Measurer is a kind that can say in words how much two versions differ where
// their elements can't: of pixels, of sound.
type Measurer interface {
	Kind
	// Facts gives what can be told of an artifact with more work than Read does.
	Facts(src Source) ([]element.Prop, error)
	// Measure gives, for properties of the root, how they differ.
	Measure(was, is Source) (map[string]string, error)
}

// Speaker is a kind that can say a value in words that people read more easily.
type Speaker interface {
	Kind
	// Say gives the words for a property's value; nothing when there are none better.
	Say(property string, v element.Value) string
}

// Worded is a kind whose programs write the same thing in different words, such as a value that is
// presumed, or none.
type Worded interface {
	Kind
	// Reword gives one version of an artifact, is, in the words of another one, as far as both say the same.
	// Neither is changed.
	Reword(was, is *element.Element) *element.Element
}

// Ranger is a kind whose elements lie beside each other, so that equal changes of many can
// be told as one.
type Ranger interface {
	Kind
	// Ranges gives names for the areas that elements of a type lie in; none when they don't.
	Ranges(typ string, keys []string) []string
}

// Part is one file of an artifact that has been split. Name has / between
// folders and is legal on every file system.
type Part struct {
	Name string
	Data []byte
}

// Splitter is a kind whose artifacts can be taken apart into files.
type Splitter interface {
	Kind
	// Split takes an artifact apart. Equal trees give equal parts.
	Split(Source) ([]Part, error)
	// Join puts parts together again: Split(Join(parts)) gives parts, and the
	// same parts give the same bytes everywhere.
	Join(parts []Part) ([]byte, error)
	// Marker is the name of the part that tells, in a folder, which kind was split.
	Marker() string
}

// Remarker is a kind whose files say more than their elements do: comments, processing
// instructions, names that values are kept under.
type Remarker interface {
	Kind
	// Remarks lists what a file says outside of its elements, in the order of the file.
	Remarks(data []byte) []Remark
}

// Remark is something that a file says outside of its elements.
type Remark struct {
	Text string
	// Of tells the thing that it stands beside, in words that stay the same while that is
	// the same thing; empty when it is about no thing.
	Of string
}

// Ruled is a kind that knows more of its elements than their trees say.
type Ruled interface {
	Kind
	Rules() element.Rules
}

// RulesOf gives the rules of a kind; none when it has none.
func RulesOf(k Kind) element.Rules {
	if r, ok := Ability[Ruled](k); ok {
		return r.Rules()
	}
	return element.Rules{}
}

// Aligner is a kind whose elements are called by their places, as cells of a sheet are, so
// that what is put in before one gives it another name.
type Aligner interface {
	Kind
	// Align gives three versions in which one name is one thing; nil when that is so already.
	// An error says why they can't be brought to that.
	Align(base, mine, theirs *element.Element) (*Alignment, error)
}

// RowKeyed is a kind of sheets whose rows can be known by columns.
type RowKeyed interface {
	Kind
	// WithRowKeys gives the kind with the headings of such columns, by the names of sheets; *
	// stands for all others.
	WithRowKeys(map[string][]string) Kind
}

// Alignment is three versions in names of a common ground.
type Alignment struct {
	Base, Mine, Theirs *element.Element
	// Back gives a merge of the three the places that it has on its own.
	Back func(merged *element.Element) (*element.Element, error)
	// Show tells a conflict in the names that people know.
	Show func(element.Conflict) element.Conflict
	// Take gives a choice about a conflict, made in the names that people know, in those of
	// the common ground.
	Take func(element.Conflict, element.Choice) element.Choice
}

// Mechanical is a kind some of whose files only programs write: how they say what they
// mean is nobody's work, and remarks alone are carried over.
type Mechanical interface {
	Kind
	Mechanical(path string) bool
}

// Unproven is a kind that reads what only an engine can judge.
type Unproven interface {
	Kind
	// Engine names the engine.
	Engine() string
}

// Examiner is a kind that can tell what in a file leads nowhere, although the file can be
// read.
type Examiner interface {
	Kind
	// Flaws lists, in words for people, what is used in a file and is not there.
	Flaws(data []byte) []string
}

// Entry is one file in another.
type Entry struct {
	Data []byte
	// Mode is what the holding file notes of it, in that format's own terms.
	Mode uint32
}

// Container is a kind of files that hold others by names.
type Container interface {
	Kind
	// Entries gives what a file holds.
	Entries(data []byte) (map[string]Entry, error)
	// Refill gives the file with other entries. What stays keeps its place, its packed
	// bytes and all that is noted of it; what is as another such file has it is taken over
	// from there.
	Refill(data []byte, entries map[string]Entry, other []byte) ([]byte, error)
}

// Hushed is a kind that leaves noise out of its trees.
type Hushed interface {
	Kind
	// Hush gives the files of an artifact that differ when its noise becomes that of
	// another version of it.
	Hush(src, like Source) (map[string][]byte, error)
}

// Layered is a kind that reads by another one.
type Layered interface {
	Kind
	Inner() Kind
}

// Gatherer is a Kind of files that may be made of others in their folder, which they name: a scene of its buffers.
type Gatherer interface {
	Kind
	// Gathers tells by a path whether a file of it may be made of others.
	Gathers(path string) bool
}

// Fallback is a Kind that takes what no other one takes: reading something by it tells little of what it is.
type Fallback interface {
	Kind
	// TakesRest does nothing: it marks the kind.
	TakesRest()
}

// Ability gives what a kind, or the kind that it reads by, can do besides.
func Ability[T any](k Kind) (T, bool) {
	for {
		if able, ok := k.(T); ok {
			return able, true
		}
		l, ok := k.(Layered)
		if !ok {
			var none T
			return none, false
		}
		k = l.Inner()
	}
}

// Holder is a kind of artifacts that hold others, and that reads those by the
// kinds of a table.
type Holder interface {
	Kind
	// Within gives the kind as a part of a table.
	Within(*Table) Kind
}

// Table is the list of kinds that a program knows, the most particular first.
// The last one takes everything.
type Table struct {
	kinds []Kind
	adapt Adapter
	text  *Transcoder // nil when text is read in UTF-8 alone

	gathering sync.Once
	gatherers []Gatherer // those of kinds, once they were asked for
	// Room, when set, is told the bytes that are about to be read and decoded: their trees take several
	// times as much.
	Room func(size int64)
}

func (t *Table) room(size int64) {
	if t.Room != nil {
		t.Room(size)
	}
}

// Decoding tells that bytes were decoded out of an artifact.
func (t *Table) Decoding(size int64) { t.room(size / 2) }

// Transcoder lets kinds of text read files in other encodings.
type Transcoder struct {
	// Head gives the first bytes of a text in UTF-8; false when they are that already,
	// or no text.
	Head func([]byte) ([]byte, bool)
	// Of gives the kind of such files that a kind of text reads; false for other kinds.
	Of func(Kind) (Kind, bool)
}

// Transcoded gives a table whose kinds also read text in other encodings.
func (t *Table) Transcoded(by Transcoder) *Table {
	out := t.Adapted(t.adapt)
	out.text = &by
	return out
}

// Adapter gives a kind as it is to read the file at a path; the path is empty
// when none is meant.
type Adapter func(t *Table, path string, k Kind) Kind

// NewTable makes a table; two kinds of one name are a mistake of the program.
func NewTable(kinds ...Kind) *Table {
	for i, k := range kinds {
		if slices.ContainsFunc(kinds[:i], func(o Kind) bool { return o.Name() == k.Name() }) {
			panic("two kinds are called " + k.Name())
		}
	}
	return (&Table{kinds: kinds}).Adapted(func(_ *Table, _ string, k Kind) Kind { return k })
}

// Adapted gives a table of the same kinds that are adapted by another rule.
func (t *Table) Adapted(by Adapter) *Table {
	out := &Table{kinds: slices.Clone(t.kinds), adapt: by, text: t.text, Room: t.Room}
	for i, k := range out.kinds {
		if h, ok := k.(Holder); ok {
			out.kinds[i] = h.Within(out)
		}
	}
	return out
}

// All lists the kinds.
func (t *Table) All() []Kind {
	out := make([]Kind, len(t.kinds))
	for i, k := range t.kinds {
		out[i] = t.adapt(t, "", k)
	}
	return out
}

// Named gives a kind by its name.
func (t *Table) Named(name string) (Kind, bool) { return t.As(name, "") }

// As gives the kind of a name, to read the file at a path.
func (t *Table) As(name, path string) (Kind, bool) {
	k, ok := t.Raw(name)
	if !ok {
		return nil, false
	}
	return t.adapt(t, path, k), true
}

// Raw gives a kind by its name as it is without the table's rule.
func (t *Table) Raw(name string) (Kind, bool) {
	i := slices.IndexFunc(t.kinds, func(k Kind) bool { return k.Name() == name })
	if i < 0 {
		return nil, false
	}
	return t.kinds[i], true
}

// For gives the kind of a file by its path and its first bytes; HeadSize bytes
// are enough.
func (t *Table) For(path string, head []byte) Kind {
	if t.text != nil {
		if plain, other := t.text.Head(head); other {
			if k, ok := t.text.Of(t.claimed(path, plain)); ok {
				return t.adapt(t, path, k)
			}
		}
	}
	return t.adapt(t, path, t.claimed(path, head))
}

func (t *Table) claimed(path string, head []byte) Kind {
	for _, k := range t.kinds {
		if k.Claims(path, head) {
			return k
		}
	}
	return t.Opaque()
}

// HeadSize is how many first bytes Claims looks at.
const HeadSize = 4096

// Gathers reports whether a file, by its path, may be made of others in its folder.
func (t *Table) Gathers(path string) bool {
	t.gathering.Do(func() {
		for _, k := range t.kinds {
			if g, ok := Ability[Gatherer](k); ok {
				t.gatherers = append(t.gatherers, g)
			}
		}
	})
	return slices.ContainsFunc(t.gatherers, func(g Gatherer) bool { return g.Gathers(path) })
}

// IsFallback reports whether a kind takes what no other one takes.
func (t *Table) IsFallback(name string) bool {
	if name == t.Opaque().Name() {
		return true
	}
	k, known := t.Named(name)
	if !known {
		return false
	}
	_, rest := Ability[Fallback](k)
	return rest
}

// Opaque gives the kind that takes everything.
func (t *Table) Opaque() Kind { return t.kinds[len(t.kinds)-1] }

// Read reads an artifact as one kind, else as plain text, else as opaque; why
// then says what the kind could not read. A panic of a kind is such a reason too:
// a bug in a format must not keep anybody from their bytes.
func (t *Table) Read(k Kind, src Source) (r *Reading, used Kind, why error) {
	if f, ok := src.(FileSource); ok {
		t.room(int64(len(f.Data)))
	}
	r, err := guarded(k, src)
	if err == nil {
		return r, k, nil
	}
	if plain, ok := t.Raw("text"); ok && k.Name() != "text" {
		if data, lacks := Main(src); lacks == nil && plain.Claims(src.Path(), data[:min(len(data), HeadSize)]) {
			if r, lacks = guarded(plain, src); lacks == nil {
				return r, plain, err
			}
		}
	}
	r, fallback := guarded(t.Opaque(), src)
	if fallback != nil {
		return &Reading{Root: &element.Element{Type: "opaque"}}, t.Opaque(), fallback
	}
	return r, t.Opaque(), err
}

// ReadGuarded reads an artifact; a panic of its kind is an error.
func ReadGuarded(k Kind, src Source) (*Reading, error) { return guarded(k, src) }

// WriteGuarded writes an artifact; a panic of its kind is an error.
func WriteGuarded(w Writer, src Source, want *element.Element, content Content) (files map[string][]byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			files, err = nil, fmt.Errorf("the %s writer failed: %v", w.Name(), p)
		}
	}()
	return w.Write(src, want, content)
}

func guarded(k Kind, src Source) (r *Reading, err error) {
	defer func() {
		if p := recover(); p != nil {
			r, err = nil, fmt.Errorf("the %s reader failed: %v", k.Name(), p)
		}
	}()
	if err := weigh(k, src); err != nil {
		return nil, err
	}
	return k.Read(src)
}

// FileSource is a Source of one file in memory. Sibling, when it is set, reads
// files beside it.
type FileSource struct {
	Name    string
	Data    []byte
	Sibling func(name string) ([]byte, error)
	// Depth says how many artifacts this one lies in.
	Depth int
	// Budget bounds the reading of the artifact that this one lies in; nil when it lies in none.
	Budget *Budget
}

// Path gives the file's path.
func (s FileSource) Path() string { return s.Name }

// Files gives the file's base name.
func (s FileSource) Files() []string { return []string{path.Base(s.Name)} }

// File gives the file's bytes, or those of a sibling.
func (s FileSource) File(name string) ([]byte, error) {
	switch {
	case name == path.Base(s.Name):
		return s.Data, nil
	case s.Sibling != nil:
		return s.Sibling(name)
	}
	return nil, fmt.Errorf("%s: %w", name, ErrNoFile)
}

// DepthOf says how many artifacts that of a source lies in.
func DepthOf(src Source) int {
	if f, ok := src.(FileSource); ok {
		return f.Depth
	}
	return 0
}

// Main reads the only file of a single-file source.
func Main(src Source) ([]byte, error) {
	files := src.Files()
	if len(files) != 1 {
		return nil, errors.New("it is a folder, and this kind reads one file")
	}
	return src.File(files[0])
}

// Contents joins several sources of content; the first that has it gives it.
func Contents(all ...Content) Content {
	return func(d element.Digest) ([]byte, bool) {
		for _, c := range all {
			if c == nil {
				continue
			}
			if data, ok := c(d); ok {
				return data, true
			}
		}
		return nil, false
	}
}

// Held is Content out of a map.
func Held(m map[element.Digest][]byte) Content {
	return func(d element.Digest) ([]byte, bool) { data, ok := m[d]; return data, ok }
}
