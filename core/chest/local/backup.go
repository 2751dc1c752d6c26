package local

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/rights"
)

// BackedUp is what BackUp, or Restore, has done.
type BackedUp struct {
	// Bytes is how large the copy is, Copied how much of it was not there before.
	Bytes, Copied int64
}

// BackUp brings a copy of the chest, as it is at one moment, to a folder which is missing or has an earlier copy. Others go
// on meanwhile, but that nothing is gathered or tidied. What is copied is read again and held against what was read
// before; then the copy is opened and examined, every byte and record of it.
func (f *Folder) BackUp(ctx context.Context, to string, progress func(what string, done, total int)) (b BackedUp, err error) {
	own := chest.New(f)
	release, err := own.Still(ctx)
	if err != nil {
		return b, err
	}
	defer release()
	if err := errors.Join(rights.Folders(to), rights.Folder(filepath.Join(to, balesName))); err != nil {
		return b, noRoom(to, err)
	}
	snapshot := filepath.Join(to, ledgerName+".new")
	if err := os.Remove(snapshot); err != nil && !errors.Is(err, os.ErrNotExist) {
		return b, noRoom(to, err)
	}
	if err := f.ledger.Snapshot(ctx, snapshot); err != nil { // before the bytes: what it names is there by then
		return b, chest.Explain(err)
	}
	names, err := f.parts()
	if err != nil {
		return b, err
	}
	keep := map[string]bool{}
	for i, name := range names {
		if err := ctx.Err(); err != nil {
			return b, err
		}
		if progress != nil {
			progress("copying", i, len(names))
		}
		if name == ledgerName {
			continue
		}
		keep[name] = true
		if err := b.bring(filepath.Join(f.Dir, name), filepath.Join(to, name)); err != nil {
			return b, noRoom(to, err)
		}
	}
	if err := os.Rename(snapshot, filepath.Join(to, ledgerName)); err != nil {
		return b, noRoom(to, err)
	}
	if err := writeFormat(to); err != nil {
		return b, noRoom(to, err)
	}
	if info, err := os.Stat(filepath.Join(to, ledgerName)); err == nil {
		b.Bytes, b.Copied = b.Bytes+info.Size(), b.Copied+info.Size()
	}
	if err := sweep(to, keep); err != nil {
		return b, noRoom(to, err)
	}
	return b, prove(ctx, to, f.now, progress)
}

// bring copies a file, unless it is there already: a bale never changes.
func (b *BackedUp) bring(from, to string) error {
	is, err := os.Stat(from)
	if err != nil {
		return err
	}
	b.Bytes += is.Size()
	if there, err := os.Stat(to); err == nil && there.Size() == is.Size() {
		return nil // the examination reads it
	}
	if err := rights.Folder(filepath.Dir(to)); err != nil {
		return err
	}
	n, err := copyProven(from, to)
	b.Copied += n
	return err
}

// sweep takes bales away that the chest does not have any more.
func sweep(to string, keep map[string]bool) error {
	for _, folder := range []string{balesName, formerName} {
		entries, err := os.ReadDir(filepath.Join(to, folder))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		for _, e := range entries {
			if name := filepath.Join(folder, e.Name()); !keep[name] {
				if err := os.Remove(filepath.Join(to, name)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// prove opens a copy of a chest and examines it.
func prove(ctx context.Context, dir string, now func() time.Time, progress func(what string, done, total int)) error {
	f, err := Open(ctx, dir, now)
	if err != nil {
		return err
	}
	x, err := chest.New(f).Examine(ctx, progress)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if len(x.Findings) > 0 {
		return fault.New(fault.Damaged, "Look at the chest itself with oaken health: what is damaged there is damaged in the copy.",
			"The copy in %s is not whole: %s, %s.", dir, x.Findings[0].Where, x.Findings[0].Reason)
	}
	return nil
}

func noRoom(to string, err error) error {
	return fault.New(fault.Unreachable,
		"Check the connection, the rights and the room there, and run it again: it goes on where it stopped.",
		"The copy in %s can't be written: %w.", to, err)
}

// Restore makes a chest in a folder of a copy that BackUp made, and examines it. Who has followed the records before finds
// that they are others: what came after the copy was made is not in them.
func Restore(ctx context.Context, from, to string, now func() time.Time, progress func(what string, done, total int)) (b BackedUp,
	err error) {
	if _, err := readFormat(from); err != nil {
		return b, err
	}
	source := &Folder{Dir: from}
	names, err := source.parts()
	if err == nil {
		err = errors.Join(rights.Folders(to), rights.Folder(filepath.Join(to, balesName)))
	}
	if err != nil {
		return b, noRoom(to, err)
	}
	for i, name := range names {
		if err := ctx.Err(); err != nil {
			return b, err
		}
		if progress != nil {
			progress("bringing back", i, len(names))
		}
		if strings.HasPrefix(filepath.Base(name), "writing-") {
			continue
		}
		if err := b.bring(filepath.Join(from, name), filepath.Join(to, name)); err != nil {
			return b, noRoom(to, err)
		}
	}
	if err := tables.BeginAnew(ctx, filepath.Join(to, ledgerName)); err != nil {
		return b, chest.Explain(err)
	}
	if err := writeFormat(to); err != nil {
		return b, noRoom(to, err)
	}
	return b, prove(ctx, to, now, progress)
}

// Adopt makes a chest of files that were brought to a folder from elsewhere. Who has followed the records before finds that
// they are others.
func Adopt(ctx context.Context, dir string) error {
	if err := tables.BeginAnew(ctx, filepath.Join(dir, ledgerName)); err != nil {
		return chest.Explain(err)
	}
	return writeFormat(dir)
}
