package chest

import (
	"fmt"
	"strings"

	"oakenchest/core/content"
)

// WriteTree stores the folders of files, which need not be sorted, and gives the
// digest of the whole.
func (c *Chest) WriteTree(b *content.Batch, files []File) (content.Digest, error) {
	return c.Amend(b, content.Digest{}, files)
}

// Amend stores a tree with some files put into it and gives its digest; a file
// without mode is taken out. Only the folders of those files are written. A
// folder that loses its last file goes, unless it is put in as a bare one.
func (c *Chest) Amend(b *content.Batch, tree content.Digest, files []File) (content.Digest, error) {
	sorted := InOrder(files)
	d, _, err := c.amendFolder(b, tree, sorted, "")
	return d, err
}

// amendFolder amends one folder; files lie in it, in order. It also gives how
// many entries the folder then has.
func (c *Chest) amendFolder(b *content.Batch, old content.Digest, files []File, prefix string) (content.Digest, int, error) {
	before, err := c.folder(old)
	if err != nil {
		return old, 0, err
	}
	var entries []File
	for len(files) > 0 {
		name, _, _ := strings.Cut(files[0].Path[len(prefix):], "/")
		for len(before) > 0 && before[0].Path < name {
			entries, before = append(entries, before[0]), before[1:]
		}
		var was File
		if len(before) > 0 && before[0].Path == name {
			was, before = before[0], before[1:]
		}
		inside := prefix + name + "/"
		n := 0
		for n < len(files) && (files[n].Path == prefix+name || strings.HasPrefix(files[n].Path, inside)) {
			n++
		}
		e, err := c.amendEntry(b, was, files[:n], name, inside)
		if err != nil {
			return old, 0, err
		}
		if e.Mode != 0 {
			entries = append(entries, e)
		}
		files = files[n:]
	}
	entries = append(entries, before...)
	d, err := b.PutBytes(encodeTree(entries))
	return d, len(entries), err
}

// amendEntry gives what is at one name: the file put there, or the folder with
// the files put below it.
func (c *Chest) amendEntry(b *content.Batch, was File, files []File, name, inside string) (File, error) {
	own, path := was, strings.TrimSuffix(inside, "/")
	if files[0].Path == path {
		own, files = files[0], files[1:]
		own.Path = name
	}
	below, n := content.Digest{}, 0
	if was.Mode == Folder || own.Mode == Folder || len(files) > 0 {
		if was.Mode == Folder {
			below = was.Digest
		}
		var err error
		if below, n, err = c.amendFolder(b, below, files, inside); err != nil {
			return own, err
		}
	}
	isFile := own.Mode != 0 && own.Mode != Folder
	switch {
	case isFile && n > 0:
		return own, fmt.Errorf("%s is a file and a folder at once", path)
	case isFile:
		return own, nil
	case n > 0 || own.Mode == Folder && own.Digest == emptyTree:
		return File{Path: name, Mode: Folder, Digest: below}, nil
	}
	return File{}, nil
}
