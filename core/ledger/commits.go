package ledger

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"oakenchest/core/element"
)

// ID names a commit: the SHA-256 of its fields.
type ID [32]byte

// letters is the alphabet of D. Crockford's base 32, in small letters.
var letters = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// String writes the whole id in base 32.
func (id ID) String() string { return letters.EncodeToString(id[:]) }

// Short gives the first characters of the id, for people.
func (id ID) Short() string { return id.String()[:8] }

// ParseID reads a whole id.
func ParseID(s string) (ID, error) {
	b, err := letters.DecodeString(s)
	if err != nil || len(b) != len(ID{}) {
		return ID{}, fmt.Errorf("%w: %q is no id", ErrDamaged, s)
	}
	return ID(b), nil
}

// MarshalText writes the whole id; the zero one is empty.
func (id ID) MarshalText() ([]byte, error) {
	if id == (ID{}) {
		return []byte{}, nil
	}
	return []byte(id.String()), nil
}

// UnmarshalText reads what MarshalText writes.
func (id *ID) UnmarshalText(text []byte) (err error) {
	if *id = (ID{}); len(text) > 0 {
		*id, err = ParseID(string(text))
	}
	return err
}

// Commit is one recorded state of the project.
type Commit struct {
	ID ID
	// Branch is where the commit was published; Depth counts from 1 along first
	// parents, so that Branch:Depth is its address.
	Branch string
	Depth  int
	// Generation is 1 more than the greatest of the parents': it orders the graph.
	Generation int
	// Parents holds none, one or two ids; the first is the branch's former tip.
	Parents   []ID
	Tree      element.Digest
	Author    string
	Workspace string
	// Time is in UTC, to the millisecond.
	Time    time.Time
	Message string
	Item    string
}

// Seal computes the commit's id from its fields: the SHA-256 of "oaken commit
// 1" and each field with its length before it.
func (c *Commit) Seal() {
	c.Time = c.Time.UTC().Truncate(time.Millisecond)
	h := sha256.New()
	field := func(b []byte) {
		h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(b))))
		h.Write(b)
	}
	number := func(n int64) { field(binary.LittleEndian.AppendUint64(nil, uint64(n))) }
	field([]byte("oaken commit 1"))
	field([]byte(c.Branch))
	number(int64(c.Depth))
	number(int64(len(c.Parents)))
	for _, p := range c.Parents {
		field(p[:])
	}
	field(c.Tree[:])
	for _, s := range []string{c.Author, c.Workspace, c.Message, c.Item} {
		field([]byte(s))
	}
	number(c.Time.UnixMilli())
	h.Sum(c.ID[:0])
}

// Older orders commits, negative when a comes before b: none before one that it
// stands on.
func Older(a, b Commit) int {
	switch {
	case a.Generation != b.Generation:
		return a.Generation - b.Generation
	case !a.Time.Equal(b.Time):
		return a.Time.Compare(b.Time)
	}
	return strings.Compare(b.ID.String(), a.ID.String())
}
