package disk

import (
	"context"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/state"
)

// peek gives the files of the workspace at the paths of some pairs, by path;
// what is left out counts as not there.
func (t *Tree) peek(ctx context.Context, pairs []chest.Pair) (map[string]state.File, error) {
	out := make(map[string]state.File, len(pairs))
	for _, p := range pairs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		f, err := t.FileAt(p.Path)
		if err != nil {
			return nil, err
		}
		if f.Mode != 0 {
			out[p.Path] = f
		}
	}
	return out, nil
}

// FileAt gives the file of the workspace at a path; the zero File when there is
// none, or it is left out.
func (t *Tree) FileAt(p string) (state.File, error) {
	t.needIndex()
	seen, err := LookAt(t.Local(p))
	if err != nil || t.Rules().LeftOut(p) || t.behindLink(p) {
		return state.File{}, nil
	}
	f := state.File{Path: p, Mode: ModeOf(seen), Size: seen.Size}
	switch {
	case f.Mode == chest.Link:
		target, err := os.Readlink(t.Local(p))
		f.Size, f.Digest = int64(len(target)), element.DigestOf([]byte(filepath.ToSlash(target)))
		return f, err
	case seen.Sort == IsFolder:
		if inside, err := os.ReadDir(t.Local(p)); err == nil && len(inside) == 0 {
			return chest.Bare(p), nil
		}
		return state.File{}, nil
	case f.Mode == 0:
		return state.File{}, nil
	}
	if e, ok := t.index.knows(p, seen); ok {
		f.Digest = e.digest
		return f, nil
	}
	f.Digest, f.Size, err = DigestFile(t.Local(p))
	return f, err
}

// behindLink reports whether one of the folders of a path is a link: what lies
// behind it is not of the project.
func (t *Tree) behindLink(p string) bool {
	for i, r := range p {
		if r == '/' {
			if info, err := os.Lstat(t.Local(p[:i])); err == nil && !info.IsDir() {
				return true
			}
		}
	}
	return false
}
