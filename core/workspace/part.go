package workspace

import (
	"context"
	"maps"
	"os"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// RestoreElement brings one element or property of an artifact back as a state
// has it; the rest of the artifact stays as it is here. What is overwritten is
// kept as a rescue copy.
func (w *Workspace) RestoreElement(ctx context.Context, a element.Address, from state.State) (*Restored, error) {
	files, err := w.Reader().Transplant(ctx, w.Work(), from, a)
	if err != nil {
		return nil, err
	}
	r := &Restored{Paths: slices.Sorted(maps.Keys(files))}
	if err := w.locking.NotOthers(ctx, r.Paths,
		"Ask its holder, or bring the whole artifact back into another folder with --to FOLDER."); err != nil {
		return nil, err
	}
	if r.Rescued, err = w.rescue(ctx, r.Paths); err != nil {
		return nil, err
	}
	for _, p := range r.Paths {
		if files[p] == nil {
			err = w.disk.Remove(p)
		} else {
			err = w.disk.Write(p, files[p], w.modeHere(p))
		}
		if err != nil {
			return nil, err
		}
	}
	return r, w.locking.Mark(ctx, r.Paths)
}

// modeHere gives the mode in which a file is written anew: executable when it is.
func (w *Workspace) modeHere(p string) os.FileMode {
	if seen, err := disk.LookAt(w.disk.Local(p)); err == nil && seen.Executable {
		return disk.FileMode(true)
	}
	return disk.FileMode(false)
}
