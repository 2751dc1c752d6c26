// Package unsent is what a workspace has committed and not published yet: because it was asked for, because the chest
// was out of reach, or because what others published first can't be combined with it. Unsent commits stand on the
// commit that the workspace was brought from, one on the other; their contents, and the folders of that commit, lie in
// .oaken/held until they are published.
package unsent

import (
	"errors"
	"os"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/workspace/disk"
)

// A Commit is one that is not published yet.
type Commit struct {
	// Tree, in hexadecimal, is the whole state.
	Tree    string    `json:"tree"`
	Author  string    `json:"author"`
	Time    time.Time `json:"time"`
	Message string    `json:"message"`
	Item    string    `json:"item,omitempty"`
	// Paths lists what it changes; their locks end when it is published, unless KeepLocks.
	Paths     []string `json:"paths"`
	KeepLocks bool     `json:"keepLocks,omitempty"`
}

// New gives a commit of a tree, at a time in the precision of the records.
func New(tree content.Digest, author string, at time.Time) Commit {
	return Commit{Tree: disk.Hex(tree), Author: author, Time: at.UTC().Truncate(time.Millisecond)}
}

func (c Commit) tree() content.Digest {
	d, _ := disk.FromHex(c.Tree) // checked when it was read
	return d
}

// key names a commit among those of a workspace.
func (c Commit) key() string {
	return c.Author + "\x00" + c.Message + "\x00" + c.Time.UTC().Truncate(time.Millisecond).Format(time.RFC3339Nano)
}

// List is the unsent commits of a workspace.
type List struct {
	// Commits lists them, the oldest first.
	Commits []Commit
	// Chest is that of the project; nil while it is out of reach.
	Chest *chest.Chest

	disk  *disk.Tree
	store *content.Store
}

// In gives the list of a workspace, which is to be loaded.
func In(files *disk.Tree) *List { return &List{disk: files} }

const recordName = "held.json"

// record is held.json.
type record struct {
	// Base is the commit that the first of them stands on; empty for none.
	Base    string   `json:"base"`
	Commits []Commit `json:"commits"`
}

// Load reads the list, and gives the id of the commit that the first of them stands on; empty for none.
func (l *List) Load() (base string, err error) {
	l.Commits = nil
	var r record
	err = l.disk.ReadSealed(recordName, &r)
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	for _, c := range r.Commits {
		if _, bad := disk.FromHex(c.Tree); err == nil {
			err = bad
		}
	}
	if err != nil {
		return "", fault.New(fault.Damaged,
			"Bring it back from a copy, or remove it: oaken changes then shows the work of those commits as changes.",
			"The list of unsent commits, .oaken/held.json, can't be read: %w.", err)
	}
	l.Commits = r.Commits
	_, err = l.Contents()
	return r.Base, err
}

// Save writes the list, which stands on a commit; an empty one leaves no file.
func (l *List) Save(base ledger.ID) error {
	if len(l.Commits) > 0 {
		r := record{Commits: l.Commits}
		if base != (ledger.ID{}) {
			r.Base = base.String()
		}
		return l.disk.WriteSealed(recordName, r)
	}
	err := os.Remove(l.disk.Own(recordName))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// Over gives the tree that the commits come to, on top of that of a commit.
func (l *List) Over(base content.Digest) content.Digest {
	if n := len(l.Commits); n > 0 {
		return l.Commits[n-1].tree()
	}
	return base
}
