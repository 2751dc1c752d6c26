package workspace

import (
	"context"
	"errors"
	"os"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// CommitOf gives the commit that a text names, as chest.Chest.Resolve does. Without the chest, the commit
// that the workspace stands on is known by its address and its id, and a word that is a path here is taken
// as no commit; of any other text nothing is known.
func (w *Workspace) CommitOf(ctx context.Context, text string) (ledger.Commit, error) {
	if !w.Offline || w.Base.ID == (ledger.ID{}) {
		return w.Chest.Resolve(ctx, text)
	}
	const shortest = 8 // characters of an id
	if text == Label(w.Base) || len(text) >= shortest && strings.HasPrefix(w.Base.ID.String(), text) {
		return w.Base, nil
	}
	_, err := os.Lstat(w.disk.Local(text))
	if !strings.Contains(text, ":") && !errors.Is(err, os.ErrNotExist) {
		return ledger.Commit{}, chest.ErrNoState
	}
	return ledger.Commit{}, chest.Explain(ledger.ErrAway)
}

// StateNames lists names of states, for proposals; the chest's are left out while it is out of reach.
func (w *Workspace) StateNames(ctx context.Context) []string {
	out := []string{"work"}
	if !w.Offline {
		out = w.Chest.StateNames(ctx)
	}
	for _, e := range w.Manifest.Environments {
		out = append(out, "env:"+e.Name)
	}
	return out
}

// canBring refuses, before anything is touched, to bring files back whose content can't be had: it is
// damaged, or the chest is out of reach.
func (w *Workspace) canBring(changes []Change) error {
	for _, c := range changes {
		if c.Was.Mode == 0 || c.Was.Mode == chest.Folder {
			continue
		}
		in, err := w.BaseState().Open(c.Was.Path)
		if err != nil {
			err = chest.Explain(err)
			f := (*fault.Error)(nil)
			if errors.As(err, &f) {
				return fault.New(f.Code, f.Hint, "%s can't be brought back: %w", c.Path, err)
			}
			return err
		}
		if err := in.Close(); err != nil {
			return err
		}
	}
	return nil
}
