package workspace

import (
	"bytes"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"

	"oakenchest/core/fault"
	"oakenchest/core/workspace/disk"
)

// record is workspace.toml.
type record struct {
	Format int    `toml:"format"`
	Person string `toml:"person"`
	Name   string `toml:"name"`
	Chest  string `toml:"chest"`
	Branch string `toml:"branch"`
	Base   string `toml:"base"`
	// BaseBranch, BaseDepth and BaseTree say of the base what is needed while the chest is
	// out of reach.
	BaseBranch string `toml:"base-branch,omitempty"`
	BaseDepth  int    `toml:"base-depth,omitempty"`
	BaseTree   string `toml:"base-tree,omitempty"`
	// Mark tells this workspace from others of its name.
	Mark string `toml:"mark,omitempty"`
	// People lists those besides Person who have worked here.
	People []string `toml:"people,omitempty"`
	// Waived lists what is edited here without its lock.
	Waived []string `toml:"waived,omitempty"`
	// Guarded says that files which need a lock were made read-only for the first time.
	Guarded bool `toml:"guarded,omitempty"`
	// Only lists the patterns of a partial workspace.
	Only []string `toml:"only,omitempty"`
	Sum  string   `toml:"sum,omitempty"`
}

// location gives the place of the chest of a workspace in a folder.
func (r record) location(root string) string {
	if r.Chest == "" {
		return filepath.Join(root, Folder, "chest")
	}
	return r.Chest
}

// encode writes workspace.toml.
func (r record) encode() ([]byte, error) {
	r.Sum = ""
	data, err := toml.Marshal(r)
	if err != nil {
		return nil, err
	}
	r.Sum = disk.SumOf(data)
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
	if err == nil && r.Format <= formatVersion && disk.SumOf(again) != sum {
		err = disk.ErrSum
	}
	return r, err
}

// readRecord reads the workspace.toml of a workspace in a folder.
func readRecord(root string) (record, error) {
	name := filepath.Join(Folder, "workspace.toml")
	data, err := os.ReadFile(filepath.Join(root, name))
	if err != nil {
		return record{}, err
	}
	r, err := decodeRecord(data)
	if err != nil {
		return r, fault.New(fault.Damaged, "Bring it back from a copy, or get a new workspace of the chest with oaken open.",
			"The workspace's own file %s can't be read: %w.", name, err)
	}
	if r.Format > formatVersion {
		return r, fault.New(fault.Unreachable, "Use a newer oaken.", "The workspace has format %d; this program knows formats up to %d.",
			r.Format, formatVersion)
	}
	return r, nil
}
