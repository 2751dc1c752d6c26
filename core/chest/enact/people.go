package enact

import (
	"errors"
	"strconv"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// Tell records what a workspace tells of itself.
func Tell(tx *tables.Tx, n chest.News) error {
	if err := tx.PutWorkspace(n.Workspace); err != nil {
		return err
	}
	for _, e := range n.Put {
		if err := tx.PutEdit(e); err != nil {
			return err
		}
	}
	for _, e := range n.Gone {
		if err := perhaps(tx.RemoveEdit(e.Workspace, e.Path)); err != nil {
			return err
		}
	}
	return nil
}

// Register records a new workspace under a name that no other one has, and gives the name.
func Register(tx *tables.Tx, w ledger.Workspace) (string, error) {
	wished := w.Name
	for n := 2; ; n++ {
		other, err := tx.Workspace(w.Name)
		if errors.Is(err, ledger.ErrNotFound) || err == nil && other.Mark == w.Mark {
			return w.Name, tx.PutWorkspace(w)
		}
		if err != nil {
			return "", err
		}
		w.Name = wished + "-" + strconv.Itoa(n)
	}
}

// Heard takes sentences for a workspace away; another command may have been faster.
func Heard(tx *tables.Tx, workspace string, upTo int64) error {
	return perhaps(tx.RemoveNotices(workspace, upTo))
}
