package content

import (
	"bufio"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"

	"oakenchest/core/rights"
)

// baleWriter writes one bale and its keys. Nothing is made before the first record.
type baleWriter struct {
	file  *os.File
	out   *bufio.Writer
	at    int64
	keys  []keyEntry
	names []byte // digests in order of writing
}

type keyEntry struct {
	digest       Digest
	offset, size int64
}

func (w *baleWriter) empty() bool { return w.file == nil }

// record appends a record of raw bytes, which stand for content of a size.
func (w *baleWriter) record(dir string, kind byte, d Digest, raw, content int64, stored []byte) error {
	head := append([]byte{kind}, d[:]...)
	head = binary.LittleEndian.AppendUint32(head, uint32(raw))
	head = binary.LittleEndian.AppendUint32(head, uint32(len(stored)))
	head = binary.LittleEndian.AppendUint64(head, recordSum(head, stored))
	return w.write(dir, d, content, head, stored)
}

// write appends the parts of a record.
func (w *baleWriter) write(dir string, d Digest, content int64, parts ...[]byte) error {
	if w.file == nil {
		f, err := os.CreateTemp(dir, "writing-*")
		if err != nil {
			return err
		}
		w.file, w.out, w.at = f, bufio.NewWriterSize(f, 1<<20), int64(len(current.baleMagic))
		if _, err := w.out.WriteString(current.baleMagic); err != nil {
			return err
		}
	}
	w.keys = append(w.keys, keyEntry{d, w.at, content})
	w.names = append(w.names, d[:]...)
	for _, p := range parts {
		if _, err := w.out.Write(p); err != nil {
			return err
		}
		w.at += int64(len(p))
	}
	return nil
}

// name gives the bale's name.
func (w *baleWriter) name() string {
	sum := sha256.Sum256(w.names)
	return hex.EncodeToString(sum[:16])
}

// finish makes the bale durable, and gives its name: it is written and
// synchronised, then its keys, then the folder.
func (w *baleWriter) finish(dir string) (string, error) {
	defer w.abandon()
	if err := errors.Join(w.out.Flush(), w.file.Sync()); err != nil {
		return "", err
	}
	name := w.name()
	temp := w.file.Name()
	if err := errors.Join(w.file.Chmod(rights.File(dir)&0o444), w.file.Close()); err != nil {
		return "", err
	}
	if err := os.Rename(temp, filepath.Join(dir, name+current.bale)); err != nil {
		return "", err
	}
	w.file = nil
	if err := w.writeKeys(filepath.Join(dir, name+current.keys)); err != nil {
		return "", err
	}
	return name, syncFolder(dir)
}

func (w *baleWriter) writeKeys(name string) error {
	out := append([]byte(current.keysMagic), sortedEntries(w.keys)...)
	return writeDurably(name, out)
}

// abandon removes what was not finished.
func (w *baleWriter) abandon() {
	if w.file != nil {
		w.file.Close()
		os.Remove(w.file.Name())
		w.file = nil
	}
}

// writeDurably writes a file under a temporary name, synchronises it, and
// renames it.
func writeDurably(name string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), "writing-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Sync(), f.Chmod(rights.File(filepath.Dir(name))&0o444), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
