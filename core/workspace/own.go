package workspace

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"github.com/cespare/xxhash/v2"
	"github.com/pelletier/go-toml/v2"
)

// The workspace's own records carry a sum of what they say, XXH64 in
// hexadecimal, so that damage never passes for a decision that somebody made:
// workspace.toml in a key of its own, over the rest written anew; the others as
// {"sum": …, "record": …}, over the record in compact form.

func sumOf(data []byte) string {
	var h xxhash.Digest
	h.Reset()
	_, _ = h.Write(data) // never fails
	return hex.EncodeToString(h.Sum(nil))
}

var errSum = errors.New("what it says does not agree with its sum")

// sealed is the form of a record.
type sealed struct {
	Sum    string          `json:"sum"`
	Record json.RawMessage `json:"record"`
}

// writeSealed writes a record with its sum.
func (w *Workspace) writeSealed(name string, v any) error {
	record, err := json.Marshal(v)
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(sealed{sumOf(record), record}, "", "  ")
	if err != nil {
		return err
	}
	return w.writeOwn(name, append(data, '\n'))
}

// readSealed reads a record, and checks its sum; os.ErrNotExist when there is none.
func (w *Workspace) readSealed(name string, v any) error {
	data, err := os.ReadFile(filepath.Join(w.Root, Folder, name))
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
	if sumOf(compact.Bytes()) != s.Sum {
		return errSum
	}
	return json.Unmarshal(s.Record, v)
}

// encode writes workspace.toml.
func (r record) encode() ([]byte, error) {
	r.Sum = ""
	data, err := toml.Marshal(r)
	if err != nil {
		return nil, err
	}
	r.Sum = sumOf(data)
	return toml.Marshal(r)
}

// decodeRecord reads workspace.toml; before format 2 it had no sum.
func decodeRecord(data []byte) (record, error) {
	var r record
	dec := toml.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&r); err != nil {
		return r, err
	}
	if r.Format == 1 && r.Sum == "" {
		r.Format = formatVersion
		return r, nil
	}
	sum := r.Sum
	r.Sum = ""
	again, err := toml.Marshal(r)
	if err == nil && r.Format <= formatVersion && sumOf(again) != sum {
		err = errSum
	}
	return r, err
}
