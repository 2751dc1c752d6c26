package merging

import (
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/choice"
	"oakenchest/core/element"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// WrittenByHand gives a path that is not as a merge wrote it; empty for none.
func (w *Work) WrittenByHand(p *Pending, changes []disk.Change) (string, error) {
	if len(p.AsIs) > 0 {
		return p.AsIs[0], nil
	}
	seen := map[string]bool{}
	for _, c := range changes {
		for _, path := range []string{c.Path, c.From} {
			if path == "" {
				continue
			}
			seen[path] = true
			wrote, known := p.Written[path]
			d, err := w.digestHere(path)
			if err != nil || !known || wrote != d {
				return path, err
			}
		}
	}
	_, mine, _, err := w.States(p)
	if err != nil {
		return "", err
	}
	for path, wrote := range p.Written { // what was taken back by hand is no change
		if !seen[path] {
			f, err := mine.(state.Commit).At(path)
			if err != nil {
				return "", err
			}
			if is := disk.Hex(f.Digest); f.Mode == 0 && wrote != "" || f.Mode != 0 && is != wrote {
				return path, nil
			}
		}
	}
	return "", nil
}

// digestHere names the content of a file of the workspace; empty for none.
func (w *Work) digestHere(path string) (string, error) {
	f, err := w.Disk.FileAt(path)
	if err != nil || f.Mode == 0 || f.Mode == chest.Folder {
		return "", err
	}
	return disk.Hex(f.Digest), nil
}

// ChoseIn reports whether somebody settled a conflict in an artifact that a file belongs to.
func (w *Work) ChoseIn(p *Pending, file string) bool {
	unit := w.Reader().Unit(file)
	return slices.Contains(p.AsIs, unit) || slices.ContainsFunc(p.Settled, func(m choice.Made) bool {
		a, err := element.ParseAddress(m.Address)
		return err == nil && (a.Path == unit || a.Path == file)
	})
}
