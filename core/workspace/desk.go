package workspace

import "oakenchest/core/ledger"

// Stands gives the branch that is worked on, and the commit that the files were brought from.
func (w *Workspace) Stands() (branch string, base ledger.Commit) { return w.Branch, w.Base }

// Unsent says that commits are held that wait to be published.
func (w *Workspace) Unsent() bool { return len(w.unsent.Commits) > 0 }

// Away says that the chest is out of reach.
func (w *Workspace) Away() bool { return w.Offline }

// SavesRows gives the folder into which rows are saved that an environment would lose.
func (w *Workspace) SavesRows() string { return w.disk.Own("rescue") }
