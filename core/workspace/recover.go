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
)

// A journal says what a command has begun to do to the workspace's files. Its
// outcome depends on the chest alone, so that a command that was killed is
// finished by the next one.
type journal struct {
	// What is `switch` or `restore`.
	What string `json:"what"`
	// From, in hexadecimal, is the tree that a switch leaves; empty for the base.
	From string `json:"from,omitempty"`
	// Branch and Commit are where a switch leads; the files in Keep stay.
	Branch string   `json:"branch,omitempty"`
	Commit string   `json:"commit,omitempty"`
	Keep   []string `json:"keep,omitempty"`
	// Staged lists files that are put into place at the end of a switch.
	Staged []stagedFile `json:"staged,omitempty"`
	// Tree, in hexadecimal, is what a restore brings Paths back from.
	Tree  string   `json:"tree,omitempty"`
	Paths []string `json:"paths,omitempty"`
}

func (w *Workspace) journalFile() string { return filepath.Join(w.Root, Folder, "journal.json") }

// intend writes the journal before files are touched.
func (w *Workspace) intend(j journal) error {
	return w.writeSealed("journal.json", j)
}

// fulfilled takes the journal away.
func (w *Workspace) fulfilled() error { return os.Remove(w.journalFile()) }

// stopped says that what a killed process has begun can't be finished; nothing when nothing was begun.
func (w *Workspace) stopped(err error) error {
	hint := "What it had begun, and how far it came, is kept."
	if f := (*fault.Error)(nil); errors.As(err, &f) && f.Hint != "" {
		hint = f.Hint
	}
	return fault.New(fault.CodeOf(err), hint+" Or end it as far as it came: oaken health --give-up.", "A command was interrupted, and what it had begun can't be finished: %w", err)
}

// GiveUp ends what a killed process has begun, as far as it came. What says how far is kept in a
// folder below the workspace, which it gives; empty when nothing was begun.
func (w *Workspace) GiveUp() (kept string, err error) {
	kept = filepath.ToSlash(w.rescueName())
	found := false
	for _, file := range []string{w.journalFile(), w.pendingFile()} {
		if _, err := os.Lstat(file); err != nil {
			continue
		}
		if p, err := w.Pending(); file == w.pendingFile() && err == nil && p != nil && !p.Applying && !p.Abandoning {
			continue // a merge that waits for its author
		}
		to := filepath.Join(w.Root, filepath.FromSlash(kept), filepath.Base(file))
		if err := os.MkdirAll(filepath.Dir(to), ownFolder); err != nil {
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
		if err := os.Remove(w.pendingFile()); err != nil {
			return err
		}
	} else if p != nil && p.Abandoning {
		if _, _, err := w.Abandon(ctx); err != nil {
			return err
		}
	} else if p != nil && p.Applying {
		m, err := w.compute(ctx, p)
		if err == nil {
			err = w.apply(ctx, p, m)
		}
		if err != nil {
			return err
		}
	}
	var j journal
	err := w.readSealed("journal.json", &j)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.New(fault.Damaged, "Remove that file; oaken changes then shows how far the files came.", "The record of an interrupted command, .oaken/journal.json, can't be read: %w.", err)
	}
	if j.What == "restore" {
		err = w.resumeRestore(ctx, j)
		if fault.CodeOf(err) == fault.Refused { // locked by others meanwhile: what was brought back stays
			return w.fulfilled()
		}
		return err
	}
	if j.From == "" {
		j.From = hexOf(w.tree())
	}
	_, err = w.switchFrom(ctx, j)
	var blocked *blockedError
	if errors.As(err, &blocked) { // edited since: those edits stay, on the branch that was asked for
		j.Keep = append(j.Keep, blocked.paths...)
		_, err = w.switchFrom(ctx, j)
	}
	return err
}

func (w *Workspace) resumeRestore(ctx context.Context, j journal) error {
	tree, err := fromHex(j.Tree)
	if err != nil {
		return err
	}
	_, err = w.Restore(ctx, j.Paths, state.Commit{Chest: w.Chest, Tree: tree, Name: "an interrupted restore"}, "")
	return err
}

// recoverCommit notices a commit that was published by this workspace, and
// whose process was killed before it could note so.
func (w *Workspace) recoverCommit(ctx context.Context) error {
	if len(w.held) > 0 { // publishing finds out by itself
		return nil
	}
	b, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || b.Tip == w.Base.ID || b.Tip == (ledger.ID{}) {
		return err
	}
	tip, err := w.Chest.Commit(ctx, b.Tip)
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
		return os.Remove(w.pendingFile())
	}
	return chest.Explain(err)
}
