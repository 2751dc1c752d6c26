package ledger

import (
	"strings"
	"time"
)

// Lock reserves what an address names for one person in one workspace.
type Lock struct {
	// Address is a path, a pattern of paths, or the address of an element.
	Address   string
	Holder    string
	Workspace string
	Since     time.Time
	Reason    string
	// Ends is when others may take it over; zero for no such time.
	Ends time.Time
	// Pattern says that the address is a pattern, Folder that it is a folder.
	Pattern, Folder bool
}

// sort is how the records keep what an address is.
func (l Lock) sort() int {
	switch {
	case l.Pattern:
		return 1
	case l.Folder:
		return 2
	}
	return 0
}

const lockColumns = "select address, holder, workspace, since, reason, ends, sort from locks"

func scanLock(scan func(...any) error) (Lock, error) {
	var l Lock
	var since, ends int64
	var sort int
	err := scan(&l.Address, &l.Holder, &l.Workspace, &since, &l.Reason, &ends, &sort)
	l.Pattern, l.Folder = sort == 1, sort == 2
	l.Since, l.Ends = time.UnixMilli(since).UTC(), optionalTime(ends)
	return l, err
}

// optionalTime reads a time; 0 is none.
func optionalTime(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

func optionalMilli(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// Locks gives all locks by address.
func (tx *Tx) Locks() ([]Lock, error) { return rows(tx, scanLock, lockColumns+" order by address") }

// LocksNear gives the locks that may have to do with an address: those on it, above it
// and below it, and all patterns. It asks indexes, however many locks there are.
func (tx *Tx) LocksNear(address string) ([]Lock, error) {
	if address == "." {
		return tx.Locks()
	}
	up := Above(address)
	query := lockColumns + " where sort = 1 union all " + lockColumns + " where sort <> 1 and address in (?" + strings.Repeat(", ?", len(up)-1) + ")"
	args := make([]any, 0, len(up)+6)
	for _, a := range up {
		args = append(args, a)
	}
	for _, sep := range below(address) {
		next := sep[:len(sep)-1] + string(sep[len(sep)-1]+1)
		query += " union all " + lockColumns + " where sort <> 1 and address > ? and address < ?"
		args = append(args, address+sep, address+next)
	}
	return rows(tx, scanLock, query, args...)
}

// Above gives an address and everything that it lies in.
func Above(address string) []string {
	out := []string{".", address}
	path, _, object := strings.Cut(address, "::")
	if object {
		out = append(out, path)
	}
	for i := range path {
		if path[i] == '/' {
			out = append(out, path[:i])
		}
	}
	for i := len(path) + 2; i < len(address); i++ {
		if address[i] == '/' || address[i] == '.' {
			out = append(out, address[:i])
		}
	}
	return out
}

// below gives what may follow an address in those of things inside of it.
func below(address string) []string {
	if strings.Contains(address, "::") {
		return []string{"/", "."}
	}
	return []string{"/", "::"}
}

// AddLock records a lock; ErrTaken when the address is locked already.
func (tx *Tx) AddLock(l Lock) error {
	return tx.insert("locks", l.Address, l.Holder, l.Workspace, l.Since.UnixMilli(), l.Reason, optionalMilli(l.Ends), l.sort())
}

// RemoveLock takes a lock away; ErrNotFound when there is none.
func (tx *Tx) RemoveLock(address string) error {
	return tx.remove("delete from locks where address = ?", address)
}
