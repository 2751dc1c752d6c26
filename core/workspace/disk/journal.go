package disk

import (
	"errors"
	"os"

	"oakenchest/core/fault"
)

// A Journal says what a command has begun to do to the workspace's files. Its outcome depends on the chest alone, so
// that a command that was killed is finished by the next one.
type Journal struct {
	// What is `switch` or `restore`.
	What string `json:"what"`
	// From, in hexadecimal, is the tree that a switch leaves; empty for the base.
	From string `json:"from,omitempty"`
	// Branch and Commit are where a switch leads; the files in Keep stay.
	Branch string   `json:"branch,omitempty"`
	Commit string   `json:"commit,omitempty"`
	Keep   []string `json:"keep,omitempty"`
	// Staged lists files that are put into place at the end of a switch.
	Staged []Staged `json:"staged,omitempty"`
	// Tree, in hexadecimal, is what a restore brings Paths back from.
	Tree  string   `json:"tree,omitempty"`
	Paths []string `json:"paths,omitempty"`
}

const journalName = "journal.json"

// JournalFile is where the journal is kept.
func (t *Tree) JournalFile() string { return t.Own(journalName) }

// Intend writes the journal, before files are touched.
func (t *Tree) Intend(j Journal) error { return t.WriteSealed(journalName, j) }

// Intended gives the journal that a command has left; nil for none.
func (t *Tree) Intended() (*Journal, error) {
	var j Journal
	err := t.ReadSealed(journalName, &j)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.New(fault.Damaged, "Remove that file; oaken changes then shows how far the files came.",
			"The record of an interrupted command, .oaken/journal.json, can't be read: %w.", err)
	}
	return &j, nil
}

// Fulfilled takes the journal away.
func (t *Tree) Fulfilled() error { return os.Remove(t.JournalFile()) }
