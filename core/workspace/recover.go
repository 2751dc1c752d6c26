package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// stopped says that what a killed process has begun can't be finished; nothing when nothing was begun.
func (w *Workspace) stopped(err error) error {
	hint := "What it had begun, and how far it came, is kept."
	if f := (*fault.Error)(nil); errors.As(err, &f) && f.Hint != "" {
		hint = f.Hint
	}
	return fault.New(fault.CodeOf(err), hint+" Or end it as far as it came: oaken health --give-up.",
		"A command was interrupted, and what it had begun can't be finished: %w", err)
}

// GiveUp ends what a killed process has begun, as far as it came. What says how far is kept in a
// folder below the workspace, which it gives; empty when nothing was begun.
func (w *Workspace) GiveUp() (kept string, err error) {
	kept = filepath.ToSlash(w.disk.RescueName())
	found := false
	for _, file := range []string{w.disk.JournalFile(), w.merging.File()} {
		if _, err := os.Lstat(file); err != nil {
			continue
		}
		if p, err := w.Pending(); file == w.merging.File() && err == nil && p != nil && !p.Applying && !p.Abandoning {
			continue // a merge that waits for its author
		}
		to := filepath.Join(w.Root, filepath.FromSlash(kept), filepath.Base(file))
		if err := os.MkdirAll(filepath.Dir(to), disk.OwnFolder); err != nil {
			return "", err
		}
		if err := os.Rename(file, to); err != nil {
			return "", err
		}
		found = true
	}
	if !found {
		return "", nil
	}
	return kept, nil
}

// recover finishes what a killed process has begun. It is called with the
// workspace claimed.
func (w *Workspace) recover(ctx context.Context) error {
	if err := w.recoverCommit(ctx); err != nil {
		return err
	}
	if p, err := w.Pending(); err != nil {
		return err
	} else if p != nil && p.Onto != "" && p.Onto == w.Base.ID.String() { // it was completed
		if err := os.Remove(w.merging.File()); err != nil {
			return err
		}
	} else if p != nil && p.Abandoning {
		if _, _, err := w.Abandon(ctx); err != nil {
			return err
		}
	} else if p != nil && p.Applying {
		m, err := w.merging.Compute(ctx, p)
		if err == nil {
			err = w.merging.Apply(ctx, p, m)
		}
		if err != nil {
			return err
		}
	}
	j, err := w.disk.Intended()
	if err != nil || j == nil {
		return err
	}
	if j.What == "restore" {
		err = w.resumeRestore(ctx, *j)
		if fault.CodeOf(err) == fault.Refused { // locked by others meanwhile: what was brought back stays
			return w.disk.Fulfilled()
		}
		return err
	}
	if j.From == "" {
		j.From = disk.Hex(w.tree())
	}
	_, err = w.switchFrom(ctx, *j)
	var blocked *blockedError
	if errors.As(err, &blocked) { // edited since: those edits stay, on the branch that was asked for
		j.Keep = append(j.Keep, blocked.paths...)
		_, err = w.switchFrom(ctx, *j)
	}
	return err
}

func (w *Workspace) resumeRestore(ctx context.Context, j disk.Journal) error {
	tree, err := disk.FromHex(j.Tree)
	if err != nil {
		return err
	}
	_, err = w.Restore(ctx, j.Paths, state.Commit{Chest: w.Chest, Tree: tree, Name: "an interrupted restore"}, "")
	return err
}

// recoverCommit notices a commit that was published by this workspace, and
// whose process was killed before it could note so.
func (w *Workspace) recoverCommit(ctx context.Context) error {
	if len(w.unsent.Commits) > 0 { // publishing finds out by itself
		return nil
	}
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || b.Tip == w.Base.ID || b.Tip == (ledger.ID{}) {
		return err
	}
	// A branch moves from one commit once: what this workspace published is the next one on it, if it is there at all.
	tip, err := w.Chest.CommitAt(ctx, w.Branch, w.Base.Depth+1)
	if errors.Is(err, ledger.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	var before ledger.ID
	if len(tip.Parents) > 0 {
		before = tip.Parents[0]
	}
	if before != w.Base.ID || tip.Workspace != w.rec.Name {
		return nil
	}
	p, err := w.Pending()
	if err != nil {
		return err
	}
	if err := w.standOn(ctx, tip); err != nil {
		return err
	}
	if p != nil && len(tip.Parents) == 2 && tip.Parents[1].String() == p.Parent || p != nil && p.Parent == "" && tip.Message == p.Message {
		return os.Remove(w.merging.File())
	}
	return chest.Explain(err)
}
