package ledger

import (
	"errors"
	"time"
)

// Branch is a line of work with a tip that moves.
type Branch struct {
	Name string
	Tip  ID
	// Origin is the state that it was made from, as it was written.
	Origin string
	Author string
	Time   time.Time
}

// Release is a commit's name for good.
type Release struct {
	Name    string
	Commit  ID
	Comment string
	Author  string
	Time    time.Time
}

func scanBranch(scan func(...any) error) (Branch, error) {
	var b Branch
	var tip string
	var ms int64
	if err := scan(&b.Name, &tip, &b.Origin, &b.Author, &ms); err != nil {
		return b, err
	}
	b.Time = time.UnixMilli(ms).UTC()
	var err error
	b.Tip, err = parseOptional(tip)
	return b, err
}

// parseOptional reads an id; the empty text is the zero ID, before the first commit.
func parseOptional(s string) (ID, error) {
	if s == "" {
		return ID{}, nil
	}
	return ParseID(s)
}

func optional(id ID) string {
	if id == (ID{}) {
		return ""
	}
	return id.String()
}

// Branch gives one branch, or ErrNotFound. Before the first commit its tip is zero.
func (tx *Tx) Branch(name string) (Branch, error) {
	b, err := scanBranch(tx.tx.QueryRowContext(tx.ctx, "select name, tip, origin, author, time from branches where name = ?", name).Scan)
	return b, one(err)
}

// Branches gives all branches by name, without lines.
func (tx *Tx) Branches() ([]Branch, error) {
	return rows(tx, scanBranch, "select name, tip, origin, author, time from branches where name not like '"+LinePrefix+"%' order by name")
}

// AddBranch records a new branch; ErrTaken when the name is in use.
func (tx *Tx) AddBranch(b Branch) error {
	return tx.insert("branches", b.Name, optional(b.Tip), b.Origin, b.Author, b.Time.UnixMilli())
}

// MoveTip moves a branch from one commit to another, or fails with ErrMoved
// when it is not at from.
func (tx *Tx) MoveTip(name string, from, to ID) error {
	b, err := tx.Branch(name)
	if err != nil || b.Tip != from {
		return errors.Join(ErrMoved, err)
	}
	fields := []any{b.Name, to.String(), b.Origin, b.Author, b.Time.UnixMilli()}
	_, err = tx.tx.ExecContext(tx.ctx, "update branches set tip = ?, sum = ? where name = ?", to.String(), rowSum(fields), name)
	return err
}

func scanRelease(scan func(...any) error) (Release, error) {
	var r Release
	var id string
	var ms int64
	if err := scan(&r.Name, &id, &r.Comment, &r.Author, &ms); err != nil {
		return r, err
	}
	r.Time = time.UnixMilli(ms).UTC()
	var err error
	r.Commit, err = ParseID(id)
	return r, err
}

// Release gives one release, or ErrNotFound.
func (tx *Tx) Release(name string) (Release, error) {
	r, err := scanRelease(tx.tx.QueryRowContext(tx.ctx, "select name, commit_id, comment, author, time from releases where name = ?", name).Scan)
	return r, one(err)
}

// Releases gives all releases, the newest first.
func (tx *Tx) Releases() ([]Release, error) {
	return rows(tx, scanRelease, "select name, commit_id, comment, author, time from releases order by time desc, name")
}

// AddRelease records a release; ErrTaken when the name is in use.
func (tx *Tx) AddRelease(r Release) error {
	return tx.insert("releases", r.Name, r.Commit.String(), r.Comment, r.Author, r.Time.UnixMilli())
}
