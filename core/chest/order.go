package chest

import (
	"slices"

	"oakenchest/core/content"
)

// ComparePaths orders paths as a walk through the folders meets them: by name,
// what lies in a folder at the folder's place. It is negative, zero or positive.
func ComparePaths(a, b string) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return rank(a[i]) - rank(b[i])
		}
	}
	return len(a) - len(b)
}

func rank(c byte) int {
	if c == '/' {
		return -1
	}
	return int(c)
}

// InOrder sorts files by ComparePaths, where they are not.
func InOrder(files []File) []File {
	byPath := func(a, b File) int { return ComparePaths(a.Path, b.Path) }
	if slices.IsSortedFunc(files, byPath) {
		return files
	}
	files = slices.Clone(files)
	slices.SortFunc(files, byPath)
	return files
}

// Find gives the file at a path of a list in order; the zero File when there is none.
func Find(files []File, p string) File {
	i, ok := slices.BinarySearchFunc(files, p, func(f File, p string) int { return ComparePaths(f.Path, p) })
	if !ok {
		return File{}
	}
	return files[i]
}

// Pair is one path in two states; the zero File stands for none.
type Pair struct {
	Path    string
	Was, Is File
}

// DiffFiles pairs what differs between two lists in order.
func DiffFiles(before, now []File) []Pair {
	var out []Pair
	i, j := 0, 0
	for i < len(before) || j < len(now) {
		order := 0
		switch {
		case i == len(before):
			order = 1
		case j == len(now):
			order = -1
		default:
			order = ComparePaths(before[i].Path, now[j].Path)
		}
		switch {
		case order < 0:
			out = append(out, Pair{Path: before[i].Path, Was: before[i]})
			i++
		case order > 0:
			out = append(out, Pair{Path: now[j].Path, Is: now[j]})
			j++
		default:
			if !before[i].Same(now[j]) {
				out = append(out, Pair{before[i].Path, before[i], now[j]})
			}
			i, j = i+1, j+1
		}
	}
	return out
}

// Diff pairs what differs between two trees; it reads only folders that differ.
func (c *Chest) Diff(before, now content.Digest) ([]Pair, error) {
	return c.diff(&bounds{mostFiles}, before, now, "", nil)
}

func (c *Chest) diff(within *bounds, before, now content.Digest, prefix string, out []Pair) ([]Pair, error) {
	if before == now {
		return out, nil
	}
	if err := within.enter(prefix); err != nil {
		return nil, err
	}
	was, err := c.folder(before)
	if err != nil {
		return nil, err
	}
	is, err := c.folder(now)
	if err != nil {
		return nil, err
	}
	for len(was) > 0 || len(is) > 0 {
		var a, b File
		if len(is) == 0 || len(was) > 0 && was[0].Path <= is[0].Path {
			a, was = was[0], was[1:]
		}
		if len(is) > 0 && (a.Mode == 0 || is[0].Path == a.Path) {
			b, is = is[0], is[1:]
		}
		if out, err = c.diffEntry(within, a, b, prefix, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// diffEntry pairs what differs at one name of a folder.
func (c *Chest) diffEntry(within *bounds, a, b File, prefix string, out []Pair) ([]Pair, error) {
	if a.Same(b) {
		return out, nil
	}
	p := prefix + max(a.Path, b.Path)
	var below [2]content.Digest // folders are looked into, but for bare ones
	for i, f := range []*File{&a, &b} {
		if f.Path = p; f.Mode == Folder {
			below[i] = f.Digest
			if f.Digest != emptyTree {
				*f = File{}
			}
		}
	}
	if a.Mode == 0 {
		a = File{}
	}
	if b.Mode == 0 {
		b = File{}
	}
	if a.Mode != 0 || b.Mode != 0 {
		out = append(out, Pair{p, a, b})
	}
	return c.diff(within, below[0], below[1], p+"/", out)
}
