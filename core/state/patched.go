package state

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// patched is a state with the edits of a merge in it, at hand and not stored.
type patched struct {
	State
	edits map[string]Edit
	taken State // where files that are taken lie, under their own paths
}

// Patched gives a state with the edits of a merge in it; theirs is the state from which
// the merge took files.
func Patched(mine, theirs State, m *Merged) State {
	p := patched{mine, map[string]Edit{}, theirs}
	for _, e := range m.Edits {
		p.edits[e.Path] = e
	}
	return p
}

// Files lists the files.
func (p patched) Files(ctx context.Context) ([]File, error) {
	list, err := p.State.Files(ctx)
	if err != nil {
		return nil, err
	}
	out := slices.DeleteFunc(slices.Clone(list), func(f File) bool { _, edited := p.edits[f.Path]; return edited })
	for _, e := range p.edits {
		if !e.Gone {
			out = append(out, e.file())
		}
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// file gives what an edit puts at its path.
func (e Edit) file() File {
	f := e.Take
	f.Path = e.Path
	if f.Mode == 0 {
		f = File{Path: e.Path, Mode: max(e.Mode, chest.Plain), Size: int64(len(e.Data)), Digest: element.DigestOf(e.Data)}
	}
	return f
}

// Open reads a file.
func (p patched) Open(path string) (io.ReadCloser, error) {
	e, edited := p.edits[path]
	switch {
	case !edited:
		return p.State.Open(path)
	case e.Gone:
		return nil, fmt.Errorf("%s: %w", path, kind.ErrNoFile)
	case e.Take.Mode == 0:
		return held{bytes.NewReader(e.Data)}, nil
	}
	from := e.Take.Path
	if from == "" {
		from = path
	}
	if f, ok := p.taken.(Finder); ok {
		if there, err := f.At(from); err != nil || there.Digest != e.Take.Digest {
			return p.State.Open(from) // what mine had under the path that it was moved from
		}
	}
	return p.taken.Open(from)
}
