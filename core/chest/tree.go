package chest

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// Mode says what a file of a tree is.
type Mode byte

// The modes. A list of files holds a Folder only where nothing lies in it.
const (
	Plain      Mode = 'f'
	Executable Mode = 'x'
	Link       Mode = 'l' // a symbolic link; its content is the target's name
	Folder     Mode = 'd'
)

// emptyTree is the digest of a stored folder without entries.
var emptyTree = element.DigestOf(encodeTree(nil))

// Bare is a folder that nothing lies in.
func Bare(p string) File { return File{Path: p, Mode: Folder, Digest: emptyTree} }

// File is one file of a tree. Path has / between names, on every system.
type File struct {
	Path   string
	Mode   Mode
	Size   int64
	Digest content.Digest
}

// Same reports whether two files have the same mode and content.
func (f File) Same(g File) bool { return f.Mode == g.Mode && f.Digest == g.Digest }

// Stored trees are a Merkle tree: one blob a folder, sorted by name,
//
//	"OAKTREE\x01", number of entries (uvarint), then for each entry its mode (1
//	byte), name (uvarint length, bytes), size (uvarint), digest (32 bytes)
//
// so that equal folders have equal digests.
const treeMagic = "OAKTREE\x01"

// maxTree bounds one stored folder in bytes.
const maxTree = 1 << 28

func encodeTree(entries []File) []byte {
	out := binary.AppendUvarint([]byte(treeMagic), uint64(len(entries)))
	for _, e := range entries {
		out = append(out, byte(e.Mode))
		out = binary.AppendUvarint(out, uint64(len(e.Path)))
		out = append(out, e.Path...)
		out = binary.AppendUvarint(out, uint64(e.Size))
		out = append(out, e.Digest[:]...)
	}
	return out
}

var errTree = errors.New("it is no folder tree of this format")

const (
	// deepest is how long a path may be, in bytes, and mostFiles how many folders and files one tree may
	// have in all: what no file system could lay out is nobody's project. The same folder may stand in a
	// tree many times, so that few bytes can make many files.
	deepest   = 1 << 14
	mostFiles = 1 << 22
)

// bounds counts what is visited of a tree.
type bounds struct{ left int }

// enter counts a folder or file; an error when it is one too many, or lies too deep.
func (b *bounds) enter(prefix string) error {
	b.left--
	switch {
	case b.left < 0:
		return fault.New(fault.Damaged, "Nobody made this chest by hand: ask where it comes from.",
			"A tree of the chest has more than %d files.", mostFiles)
	case len(prefix) > deepest:
		return fault.New(fault.Damaged, "Nobody made this chest by hand: ask where it comes from.",
			"A tree of the chest has folders %d characters deep.", len(prefix))
	}
	return nil
}

// decodeTree reads a stored folder; names that could lead outside are refused, and those of a workspace's
// own folder, in any spelling, are passed over: they are of no project.
func decodeTree(data []byte) ([]File, error) {
	rest, ok := bytes.CutPrefix(data, []byte(treeMagic))
	if !ok {
		return nil, errTree
	}
	names := string(rest) // one piece of memory for all of them
	number := func() (uint64, bool) {
		n, size := binary.Uvarint(rest)
		if size <= 0 {
			return 0, false
		}
		rest = rest[size:]
		return n, true
	}
	count, ok := number()
	if !ok || count > uint64(len(rest)) {
		return nil, errTree
	}
	out := make([]File, 0, count)
	for range count {
		if len(rest) == 0 {
			return nil, errTree
		}
		f := File{Mode: Mode(rest[0])}
		rest = rest[1:]
		n, ok := number()
		if !ok || n > uint64(len(rest)) {
			return nil, errTree
		}
		at := len(names) - len(rest)
		f.Path, rest = names[at:at+int(n)], rest[n:]
		size, ok := number()
		if !ok || len(rest) < 32 || size > 1<<62 {
			return nil, errTree
		}
		f.Size = int64(size)
		rest = rest[copy(f.Digest[:], rest):]
		if f.Path == "" || f.Path == "." || f.Path == ".." || strings.ContainsAny(f.Path, "/\x00") {
			return nil, fmt.Errorf("%w: the name %q", errTree, f.Path)
		}
		if len(out) > 0 && out[len(out)-1].Path >= f.Path || !strings.ContainsRune("fxld", rune(f.Mode)) {
			return nil, errTree
		}
		out = append(out, f)
	}
	if len(rest) != 0 {
		return nil, errTree
	}
	return slices.DeleteFunc(out, func(f File) bool { return manifest.Own(f.Path) }), nil
}

// treeCache remembers folders that were read; they never change.
type treeCache struct {
	mu    sync.Mutex // guards held
	held  map[content.Digest][]File
	files int // in all of them
}

// folder reads one stored folder. The zero digest is an empty one.
func (c *Chest) folder(d content.Digest) ([]File, error) {
	if d == (content.Digest{}) {
		return nil, nil
	}
	c.trees.mu.Lock()
	entries, ok := c.trees.held[d]
	c.trees.mu.Unlock()
	if ok {
		return entries, nil
	}
	entries, err := c.readFolder(d)
	if err == nil {
		c.trees.keep(d, entries)
	}
	return entries, err
}

// keep remembers a folder.
func (t *treeCache) keep(d content.Digest, entries []File) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.held == nil || len(t.held) > 1<<16 {
		t.held, t.files = map[content.Digest][]File{}, 0
	}
	t.held[d] = entries
	t.files += len(entries)
}

// mostAlong is how many files the folders may have in all that are remembered because a whole tree was read.
const mostAlong = 1 << 15

// folderOnce is folder for those who read all of a tree: of a large one not everything is kept.
func (c *Chest) folderOnce(d content.Digest) ([]File, error) {
	c.trees.mu.Lock()
	entries, ok := c.trees.held[d]
	full := c.trees.files > mostAlong
	c.trees.mu.Unlock()
	if ok || d == (content.Digest{}) {
		return entries, nil
	}
	entries, err := c.readFolder(d)
	if err == nil && !full {
		c.trees.keep(d, entries)
	}
	return entries, err
}

// readFolder reads one stored folder.
func (c *Chest) readFolder(d content.Digest) ([]File, error) {
	data, err := content.ReadAll(c.Contents, d, maxTree)
	if err != nil {
		return nil, err
	}
	entries, err := decodeTree(data)
	if err != nil {
		return nil, &content.DamageError{Digest: d, File: c.Place(), Reason: err.Error()}
	}
	if c.guided != nil {
		c.guided.Guide(d, entries)
	}
	return entries, nil
}

// Entries lists what lies in one stored folder, by name; paths are names alone.
func (c *Chest) Entries(folder content.Digest) ([]File, error) { return c.folder(folder) }

// Files lists all files of a tree, and its bare folders, in the order of
// ComparePaths.
func (c *Chest) Files(tree content.Digest) ([]File, error) {
	return c.list(&bounds{mostFiles}, tree, "", nil)
}

func (c *Chest) list(within *bounds, d content.Digest, prefix string, out []File) ([]File, error) {
	entries, err := c.folderOnce(d)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		e.Path = prefix + e.Path
		if err := within.enter(e.Path); err != nil {
			return nil, err
		}
		if e.Mode != Folder {
			out = append(out, e)
			continue
		}
		before := len(out)
		if out, err = c.list(within, e.Digest, e.Path+"/", out); err != nil {
			return nil, err
		}
		if len(out) == before {
			out = append(out, Bare(e.Path))
		}
	}
	return out, nil
}

// At gives the file or folder at a path of a tree; the zero File when there is none.
func (c *Chest) At(tree content.Digest, p string) (File, error) {
	at := File{Mode: Folder, Digest: tree}
	for name := range strings.SplitSeq(path.Clean(p), "/") {
		if name == "." {
			continue
		}
		if at.Mode != Folder {
			return File{}, nil
		}
		entries, err := c.folder(at.Digest)
		if err != nil {
			return File{}, err
		}
		i, ok := slices.BinarySearchFunc(entries, name, func(f File, n string) int { return strings.Compare(f.Path, n) })
		if !ok {
			return File{}, nil
		}
		at = entries[i]
	}
	at.Path = p
	return at, nil
}

// Bring makes sure that the contents of files are at hand before they are read one by one, where the chest is far away; of
// those alone that have no more than so many bytes, 0 for all.
func (c *Chest) Bring(ctx context.Context, files []File, most int64) error {
	if c.guided == nil {
		return nil
	}
	var want []content.Digest
	for _, f := range files {
		if f.Mode != 0 && f.Mode != Folder && (most == 0 || f.Size <= most) {
			want = append(want, f.Digest)
		}
	}
	return Explain(c.Contents.Bring(ctx, want, nil))
}

// CopyFolders puts the folders of a tree, without the files in them, into a batch of
// another store; what that has is not looked into.
func (c *Chest) CopyFolders(to *content.Batch, tree content.Digest) error {
	if tree == (content.Digest{}) || to.Has(tree) {
		return nil
	}
	entries, err := c.folder(tree)
	for _, e := range entries {
		if err == nil && e.Mode == Folder {
			err = c.CopyFolders(to, e.Digest)
		}
	}
	if err == nil {
		_, err = to.PutBytes(encodeTree(entries))
	}
	return err
}
