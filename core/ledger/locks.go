package ledger

import "time"

// Lock reserves what an address names for one person in one workspace.
type Lock struct {
	Address   string
	Holder    string
	Workspace string
	Since     time.Time
	Reason    string
}

func scanLock(scan func(...any) error) (Lock, error) {
	var l Lock
	var ms int64
	err := scan(&l.Address, &l.Holder, &l.Workspace, &ms, &l.Reason)
	l.Since = time.UnixMilli(ms).UTC()
	return l, err
}

// Locks gives all locks by address.
func (tx *Tx) Locks() ([]Lock, error) {
	return rows(tx, scanLock, "select address, holder, workspace, since, reason from locks order by address")
}

// AddLock records a lock; ErrTaken when the address is locked already.
func (tx *Tx) AddLock(l Lock) error {
	return tx.insert("locks", l.Address, l.Holder, l.Workspace, l.Since.UnixMilli(), l.Reason)
}

// RemoveLock takes a lock away; ErrNotFound when there is none.
func (tx *Tx) RemoveLock(address string) error {
	r, err := tx.tx.ExecContext(tx.ctx, "delete from locks where address = ?", address)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return ErrNotFound
	}
	return nil
}
