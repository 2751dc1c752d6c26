package tables

import (
	"strings"

	"oakenchest/core/ledger"
)

var locks = &table[ledger.Lock]{name: "locks", since: 1, sumsSince: 2, follows: byMoment, bind: func(l *ledger.Lock) []column {
	return []column{key("address", text(&l.Address)), col("holder", text(&l.Holder)), col("workspace", text(&l.Workspace)),
		col("since", moment(&l.Since)), col("reason", text(&l.Reason)), col("ends", moment(&l.Ends)).from(4), col("sort",
			sortOf(l)).from(4)}
}, indexes: []index{{name: "locks_patterns", on: "(address) where sort = 1", since: 4}}}

// Locks answers ledger.People, as does LocksNear.
func (tx *Tx) Locks() ([]ledger.Lock, error) { return list(tx, locks, "order by address") }

func (tx *Tx) LocksNear(address string) ([]ledger.Lock, error) {
	if address == "." {
		return tx.Locks()
	}
	up := ledger.Above(address)
	again := " union all select " + names(locks.listColumns(), "") + " from locks where sort <> 1 and "
	clause := "where sort = 1" + again + "address in (?" + strings.Repeat(", ?", len(up)-1) + ")"
	args := make([]any, 0, len(up)+6)
	for _, a := range up {
		args = append(args, a)
	}
	for _, sep := range ledger.Below(address) {
		next := sep[:len(sep)-1] + string(sep[len(sep)-1]+1)
		clause += again + "address > ? and address < ?"
		args = append(args, address+sep, address+next)
	}
	return list(tx, locks, clause, args...)
}

// AddLock records a lock; ErrTaken when the address is locked already.
func (tx *Tx) AddLock(l ledger.Lock) error { return insert(tx, locks, l) }

// RemoveLock takes a lock away; ErrNotFound when there is none.
func (tx *Tx) RemoveLock(address string) error {
	return remove(tx, locks, "where address = ?", address)
}
