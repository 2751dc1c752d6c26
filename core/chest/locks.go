package chest

import (
	"context"
	"errors"
	"path"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Locks gives all locks by address.
func (c *Chest) Locks(ctx context.Context) (out []ledger.Lock, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { out, err = tx.Locks(); return err })
	return out, Explain(err)
}

// Covers reports whether a lock on one address reaches another: the same path, one
// below it, or an element in it; the same element, one of its children, or a property.
func Covers(locked, p string) bool {
	_, _, object := strings.Cut(locked, "::")
	if object {
		return locked == p || strings.HasPrefix(p, locked+"/") || strings.HasPrefix(p, locked+".")
	}
	p, _, _ = strings.Cut(p, "::")
	return locked == p || strings.HasPrefix(p, strings.TrimSuffix(locked, "/")+"/")
}

// tidyAddress gives an address in its one form.
func tidyAddress(a string) string {
	if strings.Contains(a, "::") {
		return a
	}
	return path.Clean(a)
}

// Lock takes locks, all or none. A path that another workspace holds, or that
// lies above or below one, is refused with the holder's name; what the caller
// holds already is left as it is.
func (c *Chest) Lock(ctx context.Context, wanted []ledger.Lock) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		held, err := tx.Locks()
		if err != nil {
			return err
		}
		for _, w := range wanted {
			w.Address = tidyAddress(w.Address)
			mine := false
			for _, h := range held {
				if !Covers(h.Address, w.Address) && !Covers(w.Address, h.Address) {
					continue
				}
				if h.Holder != w.Holder || h.Workspace != w.Workspace {
					return fault.New(fault.Refused, "Ask "+h.Holder+" to commit or to run oaken unlock "+h.Address+".", "%s is locked by %s.", h.Address, HolderText(h))
				}
				mine = mine || Covers(h.Address, w.Address)
			}
			if mine {
				continue
			}
			if err := tx.AddLock(w); err != nil {
				return err
			}
			held = append(held, w)
		}
		return nil
	}))
}

// HolderText says who holds a lock, where and since when, for people.
func HolderText(l ledger.Lock) string {
	return l.Holder + " in " + l.Workspace + " since " + l.Since.Local().Format("2006-01-02 15:04")
}

// Unlock gives locks back. A lock of another workspace is refused.
func (c *Chest) Unlock(ctx context.Context, holder, workspace string, addresses []string) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		held, err := tx.Locks()
		if err != nil {
			return err
		}
		for _, a := range addresses {
			a = tidyAddress(a)
			for _, h := range held {
				if h.Address == a && (h.Holder != holder || h.Workspace != workspace) {
					return fault.New(fault.Refused, "Only the holder gives a lock back.", "%s is locked by %s.", a, HolderText(h))
				}
			}
			if err := tx.RemoveLock(a); errors.Is(err, ledger.ErrNotFound) {
				return fault.New(fault.Usage, "oaken locks lists the locks.", "%s is not locked.", a)
			} else if err != nil {
				return err
			}
		}
		return nil
	}))
}
