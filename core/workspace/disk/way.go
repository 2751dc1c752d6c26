package disk

import "os"

// ClearWay removes a file that stands where a folder has to go, or empty
// folders where a file has to; wanted tells of a path whether a file belongs there.
func (t *Tree) ClearWay(p string, wanted func(string) bool) error {
	for i, r := range p {
		if r == '/' && !wanted(p[:i]) {
			if info, err := os.Lstat(t.Local(p[:i])); err == nil && !info.IsDir() {
				if err := t.takeAway(p[:i]); err != nil {
					return err
				}
			}
		}
	}
	info, err := os.Lstat(t.Local(p))
	if err != nil || !info.IsDir() {
		return nil
	}
	moved, err := t.temporary(nil, 0o666)
	if err != nil {
		return err
	}
	os.Remove(moved)
	at, err := t.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.give(moved) // its files are of the state that is left
}

// takeAway removes a file or a link.
func (t *Tree) takeAway(p string) error {
	at, err := t.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.remove()
}

// Chmod gives a file other permission bits.
func (t *Tree) Chmod(p string, mode os.FileMode) error {
	at, err := t.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.chmod(mode)
}

// Free lets a file be written that no lock can be had for any more.
func (t *Tree) Free(p string) {
	if info, err := os.Lstat(t.Local(p)); err == nil && info.Mode().IsRegular() {
		_ = t.Chmod(p, info.Mode().Perm()|0o200) // else its owner does it
	}
}
