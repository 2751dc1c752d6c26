package local

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/rights"
)

// copying marks a folder that a chest is being copied to; it holds where the chest is.
const copying = "copying"

// MoveTo brings the chest, with everything in it, to a folder that is missing or empty, and gives its size
// in bytes. Every file is read again there and held against what was copied; then the old place points to
// the new one, and its bytes go. Nobody can write meanwhile; they wait, and go on in the new place. Cut off
// before that, the old chest is as it was, and the next call takes up what was copied. The chest has to be
// closed afterwards.
func (f *Folder) MoveTo(ctx context.Context, to string, progress func(what string, done, total int)) (size int64, err error) {
	if err := f.prepare(to); err != nil {
		return 0, err
	}
	err = f.ledger.Leave(ctx, to, func() error {
		names, err := f.parts()
		if err != nil {
			return err
		}
		for i, name := range names {
			if err := ctx.Err(); err != nil {
				return err
			}
			if progress != nil {
				progress("copying the chest", i, len(names))
			}
			n, err := int64(0), rights.Folder(filepath.Dir(filepath.Join(to, name)))
			if err == nil {
				n, err = copyProven(filepath.Join(f.Dir, name), filepath.Join(to, name))
			}
			if err != nil {
				return fault.New(fault.Unreachable,
					"Check the connection, the rights and the room there, and try again: it goes on where it stopped. The chest is "+
						"where it was.",
					"The chest can't be copied to %s: %w.", to, err)
			}
			size += n
		}
		return chest.Explain(tables.Arrive(ctx, filepath.Join(to, ledgerName)))
	})
	if err == nil {
		err = Arrive(f.Dir, to)
	}
	return size, chest.Explain(err)
}

// MoveAfar is MoveTo to a place that is no folder here: send brings each file there, and arrived says that all of them are
// in use there. Nobody can write meanwhile.
func (f *Folder) MoveAfar(ctx context.Context, place string, send func(name string, file *os.File, size int64) error,
	arrived func() error, progress func(what string, done, total int)) (size int64, err error) {
	err = f.ledger.Leave(ctx, place, func() error {
		names, err := f.parts()
		if err != nil {
			return err
		}
		for i, name := range names {
			if progress != nil {
				progress("sending the chest", i, len(names))
			}
			n, err := sendFile(filepath.Join(f.Dir, name), name, send)
			if err != nil {
				return err
			}
			size += n
		}
		return arrived()
	})
	if err == nil {
		for _, name := range []string{balesName, formerName} { // that it fails harms nothing
			_ = os.RemoveAll(filepath.Join(f.Dir, name))
		}
	}
	return size, chest.Explain(err)
}

// Moment gives that of the records.
func (f *Folder) Moment(ctx context.Context) (m tables.Moment, err error) {
	tx, err := f.ledger.View(ctx)
	if err != nil {
		return m, err
	}
	defer tx.Close()
	return tx.Now()
}

// LeaveFor gives the chest up for one that is at a place already, as this one was at a moment; ErrMoved when something
// happened here since.
func (f *Folder) LeaveFor(ctx context.Context, place string, m tables.Moment) error {
	err := f.ledger.LeaveAt(ctx, place, m)
	if err == nil {
		for _, name := range []string{balesName, formerName} { // that it fails harms nothing
			_ = os.RemoveAll(filepath.Join(f.Dir, name))
		}
	}
	return err
}

func sendFile(file, name string, send func(name string, file *os.File, size int64) error) (int64, error) {
	in, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), send(filepath.ToSlash(name), in, info.Size())
}

// Arrive makes a chest of the folder that the one in from was moved to, and takes away what is left of
// that but for the pointer. It is for a chest whose records say so: a process may have been killed then.
func Arrive(from, to string) error {
	mark := filepath.Join(to, copying)
	if source, err := os.ReadFile(mark); err == nil && string(source) == from {
		if err := errors.Join(writeFormat(to), os.Remove(mark)); err != nil {
			return fault.New(fault.Unreachable, "Check the rights there, and run the command again.",
				"The chest in %s can't be used yet: %w.", to, err)
		}
	}
	if Exists(to) {
		for _, name := range []string{balesName, formerName} { // that it fails harms nothing
			_ = os.RemoveAll(filepath.Join(from, name))
		}
	}
	return nil
}

// prepare makes the folder that the chest goes to, or finds what an earlier call has copied there.
func (f *Folder) prepare(to string) error {
	mark := filepath.Join(to, copying)
	from, err := os.ReadFile(mark)
	if err == nil && (len(from) == 0 || string(from) == f.Dir) { // empty when it was killed before it wrote
		err = rights.Folder(filepath.Join(to, balesName))
		if err == nil {
			err = os.WriteFile(mark, []byte(f.Dir), rights.File(to))
		}
		return err
	}
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return fault.New(fault.Refused, "Name an empty folder or one that does not exist yet.", "%s is not empty, and no chest is in it.",
			to)
	}
	if err = rights.Folders(to); err == nil {
		err = os.WriteFile(mark, []byte(f.Dir), rights.File(to))
	}
	if err == nil {
		err = rights.Folder(filepath.Join(to, balesName))
	}
	if err == nil {
		return nil
	}
	return fault.New(fault.Unreachable, "Check the location and the rights to write there.", "No chest can be made in %s.", to)
}

// parts lists the files that a chest consists of, below its folder.
func (f *Folder) parts() ([]string, error) {
	out := []string{ledgerName}
	for _, folder := range []string{balesName, formerName} {
		bales, err := os.ReadDir(filepath.Join(f.Dir, folder))
		if errors.Is(err, fs.ErrNotExist) && folder == formerName {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, b := range bales {
			if !strings.HasPrefix(b.Name(), "writing-") {
				out = append(out, filepath.Join(folder, b.Name()))
			}
		}
	}
	slices.Sort(out[1:])
	return out, nil
}

// copyProven copies a file, makes it durable, and reads it again: it must be what was read before. A copy
// that is there and the same is kept.
func copyProven(from, to string) (size int64, err error) {
	want, size, err := sumOf(from)
	if err != nil {
		return 0, err
	}
	if got, _, err := sumOf(to); err == nil && bytes.Equal(got, want) {
		return size, nil
	}
	if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return 0, err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	_, err = io.Copy(out, in)
	mode := rights.File(filepath.Dir(to)) & (info.Mode().Perm()&0o222 | 0o444) // packs are read-only
	if info.Mode().Perm()&0o200 != 0 {
		mode = rights.File(filepath.Dir(to))
	}
	if err = errors.Join(err, out.Chmod(mode), out.Sync(), out.Close()); err != nil {
		return 0, err
	}
	got, _, err := sumOf(to)
	if err == nil && !bytes.Equal(got, want) {
		err = errors.New("the copy of " + filepath.Base(from) + " is not what was copied")
	}
	return size, err
}

func sumOf(file string) (sum []byte, size int64, err error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, 0, err
	}
	defer in.Close()
	h := sha256.New()
	size, err = io.Copy(h, in)
	return h.Sum(nil), size, err
}

// MovedTo gives the place that a chest was moved to, from the error of opening it; empty for another
// error.
func MovedTo(err error) string {
	var moved *ledger.MovedError
	if errors.As(err, &moved) {
		return moved.Place
	}
	return ""
}
