package workspace

import (
	"context"
	"maps"
	"os"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
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
	if err := w.checkHeld(ctx, r.Paths, "Ask its holder, or bring the whole artifact back into another folder with --to FOLDER."); err != nil {
		return nil, err
	}
	if r.Rescued, err = w.rescue(ctx, r.Paths); err != nil {
		return nil, err
	}
	for _, p := range r.Paths {
		if files[p] == nil {
			err = w.remove(p)
		} else {
			err = w.write(p, files[p], w.modeHere(p))
		}
		if err != nil {
			return nil, err
		}
	}
	return r, w.mark(ctx, r.Paths)
}

// modeHere gives the mode in which a file is written anew: executable when it is.
func (w *Workspace) modeHere(p string) os.FileMode {
	if seen, err := lookAt(w.local(p)); err == nil && seen.executable {
		return 0o777 &^ umask
	}
	return 0o666 &^ umask
}

// checkHeld refuses paths that somebody else has locked.
func (w *Workspace) checkHeld(ctx context.Context, paths []string, hint string) error {
	locks, err := w.Chest.Locks(ctx)
	if err != nil {
		return err
	}
	for _, p := range paths {
		for _, l := range locks {
			if !w.holds(l) && chest.Reaches(l, p) {
				return fault.New(fault.Refused, hint, "%s is locked by %s.", p, chest.HolderText(l))
			}
		}
	}
	return nil
}
