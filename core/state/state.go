// Package state treats every place that holds artifacts alike: the workspace, a
// commit, a release, an environment, a file on disk. Any two states compare, and
// three of them merge, with one engine.
//
// A Reader knows the project's kinds and declarations; it groups a state's files
// into artifacts and reads those as elements.
package state

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/apart"
	"oakenchest/core/manifest"
)

// File is a file of a state.
type File = chest.File

// State is a place that holds artifacts.
type State interface {
	// Label is how a person writes the state.
	Label() string
	// Files lists all files.
	Files(ctx context.Context) ([]File, error)
	// Open reads a file that Files lists.
	Open(path string) (io.ReadCloser, error)
}

// Scoped is a state that speaks of some paths only: an environment knows nothing
// of files outside of its folder.
type Scoped interface {
	State
	Scope() []string
}

// ReadFile reads a file of a state whole.
func ReadFile(s State, p string) ([]byte, error) {
	r, err := s.Open(p)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var data bytes.Buffer
	data.Grow(sizeOf(r) + bytes.MinRead)
	_, err = data.ReadFrom(io.LimitReader(r, kind.MaxFile+1))
	if err == nil && data.Len() > kind.MaxFile {
		err = fmt.Errorf("it is larger than %s", element.SizeText(kind.MaxFile))
	}
	return data.Bytes(), err
}

// sizeOf gives the size in bytes of what is read, as far as it is known.
func sizeOf(r io.Reader) int {
	switch r := r.(type) {
	case *os.File:
		if info, err := r.Stat(); err == nil && info.Size() <= kind.MaxFile {
			return int(info.Size())
		}
	case held:
		return r.Len()
	}
	return 0
}

// held is content in memory.
type held struct{ *bytes.Reader }

// Close has nothing to let go of.
func (held) Close() error { return nil }

// Commit is the state of a commit.
type Commit struct {
	Chest *chest.Chest
	Tree  element.Digest
	Name  string
}

// Label gives the name that the state was asked for by.
func (c Commit) Label() string { return c.Name }

// Files lists the tree.
func (c Commit) Files(context.Context) ([]File, error) {
	files, err := c.Chest.Files(c.Tree)
	return files, chest.Explain(err)
}

// Open reads a file of the tree.
func (c Commit) Open(p string) (io.ReadCloser, error) {
	f, err := c.Chest.At(c.Tree, p)
	if err != nil {
		return nil, chest.Explain(err)
	}
	if f.Mode == 0 || f.Mode == chest.Folder {
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	r, err := c.Chest.Contents.Open(f.Digest)
	return r, chest.Explain(err)
}

// At gives the file or folder at a path of the tree.
func (c Commit) At(p string) (File, error) {
	f, err := c.Chest.At(c.Tree, p)
	return f, chest.Explain(err)
}

// Below lists the files of a folder of the tree.
func (c Commit) Below(p string) ([]File, error) {
	f, err := c.Chest.At(c.Tree, p)
	if err != nil || f.Mode != chest.Folder {
		return nil, chest.Explain(err)
	}
	files, err := c.Chest.Files(f.Digest)
	for i := range files {
		files[i].Path = p + "/" + files[i].Path
	}
	return files, chest.Explain(err)
}

// Memory is a state whose files are at hand.
type Memory struct {
	Name     string
	Contents map[string][]byte
	// Within lists the paths that the state speaks of; none means all.
	Within []string
}

// Scope gives the paths that the state speaks of.
func (m Memory) Scope() []string { return m.Within }

// Label gives the name.
func (m Memory) Label() string { return m.Name }

// Files lists the files.
func (m Memory) Files(context.Context) ([]File, error) {
	var out []File
	for p, data := range m.Contents {
		out = append(out, File{Path: p, Mode: chest.Plain, Size: int64(len(data)), Digest: element.DigestOf(data)})
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// Open reads a file.
func (m Memory) Open(p string) (io.ReadCloser, error) {
	data, ok := m.Contents[p]
	if !ok {
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	return held{bytes.NewReader(data)}, nil
}

// Reader reads the artifacts of states.
type Reader struct {
	Kinds    *kind.Table
	Manifest *manifest.Manifest
}

// Artifact is an artifact of a state, read.
type Artifact struct {
	Path    string
	Kind    kind.Kind
	Reading *kind.Reading
	// Why says what its kind could not read; it is then treated as opaque.
	Why error
	// Source gives its bytes.
	Source kind.Source
}

// Snapshot is a state with its list of files at hand, or a part of it.
type Snapshot struct {
	State
	files map[string]File
	under map[string]string // where a file lies that is seen under another path
	rest  Finder            // knows of files that are not in the list; nil when all are
}

// Finder is a state that can be asked for one path.
type Finder interface {
	State
	// At gives a file or folder; the zero File when there is none.
	At(path string) (File, error)
	// Below lists the files of a folder.
	Below(path string) ([]File, error)
}

// holds reports whether the state has a file.
func (t *Snapshot) holds(p string) bool {
	if _, ok := t.files[p]; ok || t.rest == nil {
		return ok
	}
	f, err := t.rest.At(p)
	return err == nil && f.Mode != 0 && f.Mode != chest.Folder
}

// Near gives a snapshot of a state that is enough to read and compare the artifact at one
// path, without a list of everything else where the state can be asked for one path.
func Near(ctx context.Context, s State, p string) (*Snapshot, error) { return openAt(ctx, s, p) }

// openAt gives a snapshot that is enough to read the artifact at one path.
func openAt(ctx context.Context, s State, p string) (*Snapshot, error) {
	finder, ok := s.(Finder)
	if !ok {
		return open(ctx, s)
	}
	f, err := finder.At(p)
	if err != nil {
		return nil, err
	}
	var list []File
	switch f.Mode {
	case 0:
	case chest.Folder:
		if list, err = finder.Below(p); err != nil {
			return nil, err
		}
	default:
		list = []File{f}
	}
	t := Listed(s, list)
	t.rest = finder
	return t, nil
}

func open(ctx context.Context, s State) (*Snapshot, error) {
	if t, ok := s.(*Snapshot); ok {
		return t, nil
	}
	list, err := s.Files(ctx)
	if err != nil {
		return nil, err
	}
	return Listed(s, list), nil
}

// Listed gives the snapshot of a state whose files were listed before.
func Listed(s State, list []File) *Snapshot {
	t := &Snapshot{State: s, files: make(map[string]File, len(list))}
	for _, f := range list {
		t.files[f.Path] = f
	}
	return t
}

// PartOf gives the snapshot of a state of which the files of some artifacts are at hand; list has all files of the state,
// or more than those. What else is asked for, the state is asked for.
func PartOf(s Finder, list []File, units map[string]bool) *Snapshot {
	var part []File
	for _, f := range list {
		if units[f.Path] {
			part = append(part, f)
			continue
		}
		for i, r := range f.Path { // in a folder that is an artifact
			if r == '/' && units[f.Path[:i]] {
				part = append(part, f)
				break
			}
		}
	}
	t := Listed(s, part)
	t.rest = s
	return t
}

// Unit gives the path of the artifact that a file belongs to: the declared
// folder that owns it, or the file itself.
func (r *Reader) Unit(p string) string {
	if a, ok := r.Manifest.Folder(p); ok {
		if o, known := r.FolderKind(a.Kind); known && o.Owns(strings.TrimPrefix(p, a.Path+"/")) {
			return a.Path
		}
	}
	return p
}

// FolderKind gives the kind of folders that are declared under a kind's name: one
// of folders, or one whose artifacts can stay taken apart.
func (r *Reader) FolderKind(name string) (kind.Owner, bool) {
	k, ok := r.Kinds.Named(name)
	if !ok {
		return nil, false
	}
	if o, owns := k.(kind.Owner); owns {
		return o, true
	}
	return apart.Of(k)
}

// Read reads the artifact at a path of a state: a declared folder or a file.
func (r *Reader) Read(ctx context.Context, s State, p string) (*Artifact, error) {
	t, err := openAt(ctx, s, p)
	if err != nil {
		return nil, err
	}
	return r.read(t, p)
}

func (r *Reader) read(t *Snapshot, p string) (*Artifact, error) {
	if a, ok := r.Manifest.Declared(p); ok {
		if _, isFile := t.files[p]; !isFile {
			return r.readFolder(t, a)
		}
	}
	f, ok := t.files[p]
	if !ok {
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	out := &Artifact{Path: p}
	if f.Mode == chest.Folder {
		out.Kind, out.Reading = r.Kinds.Opaque(), &kind.Reading{Root: &element.Element{Type: "folder"}}
		return out, nil
	}
	if f.Mode == chest.Link || f.Size > kind.MaxFile {
		out.Kind = r.Kinds.Opaque()
		out.Reading = &kind.Reading{Root: &element.Element{Type: "opaque",
			Props: []element.Prop{{Name: "content", Value: element.BytesValue(f.Digest, f.Size)}}}}
		if f.Size > kind.MaxFile {
			out.Why = fmt.Errorf("it is larger than %s", element.SizeText(kind.MaxFile))
		}
		return out, nil
	}
	data, err := ReadFile(t, p)
	if err != nil {
		return nil, err
	}
	src := fileSource(t, p, data)
	out.Source = src
	out.Reading, out.Kind, out.Why = r.Kinds.Read(r.KindOf(p, data), src)
	return out, nil
}

// Checked is what Check tells of an artifact.
type Checked struct {
	Kind string
	Why  error
	// Sum and Hidden tell the artifact's tree and what that leaves out; Hidden is
	// zero when it leaves out nothing.
	Sum, Hidden element.Digest
}

// Check gives the kind of an artifact, and why it can't be read as that, without
// reading files that are opaque anyway.
func (r *Reader) Check(t *Snapshot, p string) (Checked, error) {
	if f, isFile := t.files[p]; isFile && f.Mode == chest.Folder {
		return Checked{Kind: "folder"}, nil
	} else if isFile {
		in, err := t.Open(p)
		if err != nil {
			return Checked{}, err
		}
		head := make([]byte, kind.HeadSize)
		n, err := io.ReadFull(in, head)
		in.Close()
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return Checked{}, err
		}
		k := r.KindOf(p, head[:n])
		if k == r.Kinds.Opaque() || f.Mode == chest.Link {
			return Checked{Kind: r.Kinds.Opaque().Name()}, nil
		}
		if _, quick := k.(kind.Quick); quick {
			return Checked{Kind: k.Name()}, nil
		}
	}
	a, err := r.read(t, p)
	if err != nil {
		return Checked{}, err
	}
	c := Checked{Kind: a.Kind.Name(), Why: a.Why, Hidden: a.Reading.Hidden}
	if c.Hidden != (element.Digest{}) {
		c.Sum = a.Reading.Root.Sum()
	}
	return c, nil
}

// fileSource is a file together with its siblings.
func fileSource(t *Snapshot, p string, data []byte) kind.FileSource {
	return kind.FileSource{Name: p, Data: data, Sibling: func(name string) ([]byte, error) {
		q := path.Join(path.Dir(p), name)
		if !t.holds(q) {
			return nil, fmt.Errorf("%s: %w", q, kind.ErrNoFile)
		}
		return ReadFile(t, q)
	}}
}

// KindOf gives the kind of a file: the declared one, else the one that claims it.
func (r *Reader) KindOf(p string, head []byte) kind.Kind {
	if a, ok := r.Manifest.Declared(p); ok {
		if k, known := r.Kinds.As(a.Kind, p); known {
			return k
		}
	}
	return r.Kinds.For(p, head[:min(len(head), kind.HeadSize)])
}

func (r *Reader) readFolder(t *Snapshot, a manifest.Artifact) (*Artifact, error) {
	k, ok := r.FolderKind(a.Kind)
	if !ok {
		return nil, fmt.Errorf("%s is declared to be of the kind %s, of which no folder is", a.Path, a.Kind)
	}
	src := newFolderSource(t, a.Path, k)
	out := &Artifact{Path: a.Path, Source: src}
	out.Reading, out.Kind, out.Why = r.Kinds.Read(k, src)
	return out, nil
}

// readBeside reads two versions of a declared folder, each with the other at hand; ok is
// false when the artifact is no such folder.
func (r *Reader) readBeside(a, b *Snapshot, p string) (x, y *Artifact, ok bool) {
	art, declared := r.Manifest.Declared(p)
	if !declared {
		return nil, nil, false
	}
	k, known := r.FolderKind(art.Kind)
	if _, isFile := a.files[p]; !known || isFile {
		return nil, nil, false
	}
	if _, isFile := b.files[p]; isFile {
		return nil, nil, false
	}
	was, is := newFolderSource(a, p, k), newFolderSource(b, p, k)
	if len(was.names) == 0 || len(is.names) == 0 {
		return nil, nil, false
	}
	was.beside, is.beside = is, was
	x, y = &Artifact{Path: p, Source: was}, &Artifact{Path: p, Source: is}
	var first sync.WaitGroup
	first.Go(func() { x.Reading, x.Kind, x.Why = r.Kinds.Read(k, was) })
	y.Reading, y.Kind, y.Why = r.Kinds.Read(k, is)
	first.Wait()
	return x, y, true
}

// folderSource gives the files of a declared folder.
type folderSource struct {
	t      *Snapshot
	path   string
	names  []string
	beside kind.Source
}

func newFolderSource(t *Snapshot, folder string, k kind.Owner) *folderSource {
	src := &folderSource{t: t, path: folder}
	for p := range t.files {
		if name, below := strings.CutPrefix(p, folder+"/"); below && k.Owns(name) && t.files[p].Mode != chest.Folder {
			src.names = append(src.names, name)
		}
	}
	slices.Sort(src.names)
	return src
}

// Beside gives the version that this one is compared with.
func (s *folderSource) Beside() kind.Source { return s.beside }

func (s *folderSource) Path() string    { return s.path }
func (s *folderSource) Files() []string { return s.names }
func (s *folderSource) File(name string) ([]byte, error) {
	if _, there := slices.BinarySearch(s.names, name); !there {
		return nil, fmt.Errorf("%s/%s: %w", s.path, name, kind.ErrNoFile)
	}
	return ReadFile(s.t, s.path+"/"+name)
}

// Under reports whether a path is one of the chosen ones or below one; no
// choice means all.
func Under(paths []string, p string) bool {
	if len(paths) == 0 {
		return true
	}
	return slices.ContainsFunc(paths, func(q string) bool { return q == "." || chest.Covers(q, p) })
}

// has reports whether a state holds an artifact at the path.
func (t *Snapshot) has(r *Reader, p string) bool {
	if _, ok := t.files[p]; ok {
		return true
	}
	if _, ok := r.Manifest.Declared(p); ok {
		for q := range t.files {
			if r.Unit(q) == p {
				return true
			}
		}
	}
	return false
}

// ignoreMissing reads an artifact, nil when the state does not hold it.
func (r *Reader) ignoreMissing(t *Snapshot, p string) (*Artifact, error) {
	if !t.has(r, p) {
		return nil, nil
	}
	a, err := r.read(t, p)
	if errors.Is(err, kind.ErrNoFile) {
		return nil, nil
	}
	return a, err
}

// ByPath gives files by their paths.
func ByPath(files []File) map[string]File {
	out := make(map[string]File, len(files))
	for _, f := range files {
		out[f.Path] = f
	}
	return out
}

// PathsOf lists the paths of files.
func PathsOf(files []File) []string {
	out := make([]string, len(files))
	for i, f := range files {
		out[i] = f.Path
	}
	return out
}

// NamesOf lists the paths of files and of the folders that they lie in.
func NamesOf(files []File) []string {
	out, seen := PathsOf(files), map[string]bool{}
	for _, f := range files {
		for i, r := range f.Path {
			if r == '/' && !seen[f.Path[:i]] {
				seen[f.Path[:i]] = true
				out = append(out, f.Path[:i])
			}
		}
	}
	return out
}
