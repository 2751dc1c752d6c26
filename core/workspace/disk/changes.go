package disk

import (
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/state"
)

// FileState is what became of a file since the workspace was brought here.
type FileState string

// The states of a file.
const (
	New       FileState = "new"
	Edited    FileState = "edited"
	Gone      FileState = "gone"
	Moved     FileState = "moved"
	Contested FileState = "contested" // edited while somebody else holds its lock
)

// Change is a file that commit would record.
type Change struct {
	Path string
	// From is the former path of a moved file.
	From  string
	State FileState
	// Kind is the word for the kind of the artifact that the file belongs to.
	Kind string
	// Why says why the artifact is kept as opaque, or read as plain text.
	Why string
	// Holder is who has the lock of a contested file.
	Holder string
	// Noise says that nothing differs but what recipes call noise.
	Noise bool

	Was, Is state.File
}

// ChangesOf tells from pairs of files, in order, what changed; a file that went
// and one of equal content that came are one that moved.
func ChangesOf(pairs []chest.Pair) []Change {
	var out []Change
	moved := chest.Moved(pairs)
	was := map[string]state.File{} // what moved, by the path that it had
	for _, from := range moved {
		was[from] = state.File{}
	}
	for _, p := range pairs {
		if _, ok := was[p.Path]; ok {
			was[p.Path] = p.Was
		}
	}
	for i, p := range pairs {
		from := moved[p.Path]
		switch _, left := was[p.Path]; {
		case from != "":
			out = append(out, Change{Path: p.Path, State: Moved, From: from, Was: was[from], Is: p.Is})
		case left && p.Is.Mode == 0:
			// it is listed where it moved to
		case p.Was.Mode == 0:
			out = append(out, Change{Path: p.Path, State: New, Is: p.Is})
		case p.Is.Mode != 0:
			out = append(out, Change{Path: p.Path, State: Edited, Was: p.Was, Is: p.Is})
		case p.Was.Mode == chest.Folder && i+1 < len(pairs) && chest.Covers(p.Path, pairs[i+1].Path):
			// a bare folder that something was put into
		default:
			out = append(out, Change{Path: p.Path, State: Gone, Was: p.Was})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// ReadMoved reads new files that the scan left out and that may be ones that moved: a file of the same size is gone.
// pairs is what differs, now lists the files, in order, and is completed.
func (t *Tree) ReadMoved(pairs []chest.Pair, now []state.File) error {
	if len(t.unread) == 0 {
		return nil
	}
	gone := map[int64]bool{}
	for _, p := range pairs {
		if p.Is.Mode == 0 {
			gone[p.Was.Size] = true
		}
	}
	for _, p := range pairs {
		seen, left := t.unread[p.Path]
		if !left || !gone[p.Is.Size] || p.Was.Mode != 0 {
			continue
		}
		d, _, err := DigestFile(t.Local(p.Path))
		if err != nil {
			return err
		}
		i, _ := slices.BinarySearchFunc(now, p.Path, func(f state.File, p string) int { return chest.ComparePaths(f.Path, p) })
		now[i].Digest = d
		t.Learn(p.Path, seen, d)
	}
	return nil
}

// PathsOf lists the paths of changes.
func PathsOf(changes []Change) []string {
	var out []string
	for _, c := range changes {
		out = append(out, c.Path)
	}
	return out
}
