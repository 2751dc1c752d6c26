package disk

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"

	"github.com/cespare/xxhash/v2"
)

// The workspace's own records carry a sum of what they say, XXH64 in
// hexadecimal, so that damage never passes for a decision that somebody made:
// workspace.toml in a key of its own, over the rest written anew; the others as
// {"sum": …, "record": …}, over the record in compact form.

// SumOf gives the sum of a record.
func SumOf(data []byte) string {
	var h xxhash.Digest
	h.Reset()
	_, _ = h.Write(data) // never fails
	return hex.EncodeToString(h.Sum(nil))
}

// ErrSum says that a record does not agree with its sum.
var ErrSum = errors.New("what it says does not agree with its sum")

// sealed is the form of a record.
type sealed struct {
	Sum    string          `json:"sum"`
	Record json.RawMessage `json:"record"`
}

// WriteSealed writes a record with its sum.
func (t *Tree) WriteSealed(name string, v any) error {
	record, err := json.Marshal(v)
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(sealed{SumOf(record), record}, "", "  ")
	if err != nil {
		return err
	}
	return t.WriteOwn(name, append(data, '\n'))
}

// ReadSealed reads a record, and checks its sum; os.ErrNotExist when there is none.
func (t *Tree) ReadSealed(name string, v any) error {
	data, err := os.ReadFile(t.Own(name))
	if err != nil {
		return err
	}
	var s sealed
	if err := json.Unmarshal(data, &s); err != nil {
		return err
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, s.Record); err != nil {
		return err
	}
	if SumOf(compact.Bytes()) != s.Sum {
		return ErrSum
	}
	return json.Unmarshal(s.Record, v)
}

// OwnMode and OwnFolder are what the workspace's own files may be at most, whatever the umask: others never
// write what commands go by.
const (
	OwnMode   = os.FileMode(0o664)
	OwnFolder = os.FileMode(0o775)
)

// WriteOwn writes a file of the workspace's own folder by way of a temporary one.
func (t *Tree) WriteOwn(name string, data []byte) error {
	temp, err := t.temporary(data, OwnMode&^umask)
	if err != nil {
		return err
	}
	return os.Rename(temp, t.Own(name))
}

// temporary writes data, synchronised, under a name of its own.
func (t *Tree) temporary(data []byte, mode os.FileMode) (string, error) {
	dir := t.Own("temp")
	if err := os.MkdirAll(dir, OwnFolder); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(dir, "w-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		os.Remove(f.Name())
	}
	return f.Name(), err
}
