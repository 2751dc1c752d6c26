package ledger

import (
	"crypto/sha256"
	"database/sql"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"oakenchest/core/blob"
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
	Tree      blob.Digest
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

const commitColumns = "id, branch, depth, generation, parent, parent2, tree, author, workspace, time, message, item"

func scanCommit(scan func(...any) error) (Commit, error) {
	var c Commit
	var id, tree string
	var p1, p2 sql.NullString
	var ms int64
	if err := scan(&id, &c.Branch, &c.Depth, &c.Generation, &p1, &p2, &tree, &c.Author, &c.Workspace, &ms, &c.Message, &c.Item); err != nil {
		return c, err
	}
	c.Time = time.UnixMilli(ms).UTC()
	var err error
	if c.ID, err = ParseID(id); err != nil {
		return c, err
	}
	t, err := ParseID(tree)
	if err != nil {
		return c, err
	}
	c.Tree = blob.Digest(t)
	for _, p := range []sql.NullString{p1, p2} {
		if p.Valid {
			parent, err := ParseID(p.String)
			if err != nil {
				return c, err
			}
			c.Parents = append(c.Parents, parent)
		}
	}
	return c, nil
}

// AddCommit records a sealed commit; recording it again changes nothing.
func (tx *Tx) AddCommit(c Commit) error {
	var parents [2]sql.NullString
	for i, p := range c.Parents {
		parents[i] = sql.NullString{String: p.String(), Valid: true}
	}
	_, err := tx.tx.ExecContext(tx.ctx, "insert into commits ("+commitColumns+") values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) on conflict (id) do nothing",
		c.ID.String(), c.Branch, c.Depth, c.Generation, parents[0], parents[1], ID(c.Tree).String(), c.Author, c.Workspace, c.Time.UnixMilli(), c.Message, c.Item)
	return err
}

// Commit gives one commit, or ErrNotFound.
func (tx *Tx) Commit(id ID) (Commit, error) {
	c, err := scanCommit(tx.tx.QueryRowContext(tx.ctx, "select "+commitColumns+" from commits where id = ?", id.String()).Scan)
	return c, one(err)
}

// CommitAt gives the commit of a branch that has a depth, or ErrNotFound: the branch
// began deeper, or does not reach it.
func (tx *Tx) CommitAt(branch string, depth int) (Commit, error) {
	c, err := scanCommit(tx.tx.QueryRowContext(tx.ctx, "select "+commitColumns+" from commits where branch = ? and depth = ?", branch, depth).Scan)
	return c, one(err)
}

// CommitsByPrefix gives up to two commits whose written id begins with prefix.
func (tx *Tx) CommitsByPrefix(prefix string) ([]Commit, error) {
	if strings.ContainsAny(prefix, "%_*?[") {
		return nil, nil
	}
	return rows(tx, scanCommit, "select "+commitColumns+" from commits where id >= ? and id < ? order by id limit 2", prefix, prefix+"~")
}

// Commits gives all commits, none before one that it stands on.
func (tx *Tx) Commits() ([]Commit, error) {
	return rows(tx, scanCommit, "select "+commitColumns+" from commits order by generation, time, id")
}
