package workspace

import (
	"fmt"
	"path"
	"strings"

	"golang.org/x/text/unicode/norm"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/workspace/disk"
)

// longestPath is the greatest length of a path that every system takes, in
// UTF-16 units, with some room for the folder that a workspace lies in.
const longestPath = 240

// hardNames says which new names of a commit some systems can't have: a colleague
// there could not open the project. tree is that of the commit.
func (w *Workspace) hardNames(tree content.Digest, chosen []Change) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	twins := twinFinder{w.Chest, tree, map[string]map[string][]string{}}
	for _, c := range chosen {
		if c.State != New && c.State != Moved {
			continue
		}
		if len([]rune(c.Path)) > longestPath {
			out = append(out, fmt.Sprintf("%s has %d characters, more than some systems take in a path.", c.Path, len([]rune(c.Path))))
		}
		for p := c.Path; p != "." && !seen[p]; p = path.Dir(p) {
			seen[p] = true
			if there, err := w.Chest.At(w.tree(), p); err != nil || there.Mode != 0 {
				if err != nil {
					return nil, err
				}
				break // it was there before, and so were the folders above
			}
			if why := hardName(path.Base(p)); why != "" {
				out = append(out, p+" "+why)
			}
			twin, err := twins.of(p)
			if err != nil {
				return nil, err
			}
			if twin != "" {
				out = append(out, fmt.Sprintf("%s and %s are one name to some systems: they differ in capitals or accents only.", p, twin))
			}
		}
	}
	return out, nil
}

// hardName says what is wrong with a name; empty for nothing.
func hardName(name string) string {
	stem, _, _ := strings.Cut(name, ".")
	for _, r := range name {
		if r < ' ' || strings.ContainsRune(`<>:"|?*\`, r) {
			return fmt.Sprintf("has the character %q, which some systems do not take in names.", r)
		}
	}
	switch {
	case partfile.IsReserved(stem):
		return "has the name of a device on some systems, which have no file of that name."
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
		return "ends with a dot or a space, which some systems take away."
	}
	return ""
}

// twinFinder finds paths of a tree that some systems take for one.
type twinFinder struct {
	chest   *chest.Chest
	tree    content.Digest
	folders map[string]map[string][]string // by folder, its names by what they fold to
}

// of gives the path beside p that some systems take for the same; empty for none.
func (t twinFinder) of(p string) (string, error) {
	dir, name := disk.SplitPath(p)
	names, known := t.folders[dir]
	if !known {
		folder, err := t.chest.At(t.tree, dir)
		if err != nil || folder.Mode != chest.Folder {
			return "", err
		}
		entries, err := t.chest.Entries(folder.Digest)
		if err != nil {
			return "", err
		}
		names = make(map[string][]string, len(entries))
		for _, e := range entries {
			names[foldName(e.Path)] = append(names[foldName(e.Path)], e.Path)
		}
		t.folders[dir] = names
	}
	for _, other := range names[foldName(name)] {
		if other != name {
			return path.Join(dir, other), nil
		}
	}
	return "", nil
}

// foldName gives equal texts for names that some systems take for one: composed
// by NFC (Unicode Standard Annex 15), in small letters.
func foldName(name string) string {
	plain := true
	for i := range len(name) {
		plain = plain && name[i] < 0x80
	}
	if plain {
		return strings.ToLower(name)
	}
	return norm.NFC.String(strings.ToLower(norm.NFC.String(name)))
}
