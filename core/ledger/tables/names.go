package tables

import (
	"errors"

	"oakenchest/core/ledger"
)

var branches = &table[ledger.Branch]{name: "branches", since: 1, sumsSince: 2, follows: byMoment, bind: func(b *ledger.Branch) []column {
	return []column{key("name", text(&b.Name)), col("tip", id(&b.Tip)), col("origin", text(&b.Origin)), col("author", text(&b.Author)),
		col("time", moment(&b.Time))}
}}

// Branch answers ledger.Graph, as do the other questions here.
func (tx *Tx) Branch(name string) (ledger.Branch, error) {
	return one(tx, branches, "where name = ?", name)
}

func (tx *Tx) Branches() ([]ledger.Branch, error) {
	return list(tx, branches, "where name not like '"+ledger.LinePrefix+"%' order by name")
}

func (tx *Tx) Lines(environment string) ([]ledger.Branch, error) {
	from := ledger.LinePrefix + environment + "/"
	return list(tx, branches, "where name >= ? and name < ? order by name", from, from+"\uffff")
}

// AddBranch records a new branch; ErrTaken when the name is in use.
func (tx *Tx) AddBranch(b ledger.Branch) error { return insert(tx, branches, b) }

// MoveTip moves a branch from one commit to another, or fails with ErrMoved when it is not at from.
func (tx *Tx) MoveTip(name string, from, to ledger.ID) error {
	b, err := tx.Branch(name)
	if err == nil {
		b.Tip = to
		err = rewrite(tx, branches, b, "tip = ?", optional(from))
	}
	if errors.Is(err, ledger.ErrNotFound) {
		return ledger.ErrMoved
	}
	return err
}

var releases = &table[ledger.Release]{name: "releases", since: 1, sumsSince: 2, follows: byMoment, bind: func(r *ledger.Release) []column {
	return []column{key("name", text(&r.Name)), col("commit_id", id(&r.Commit)), col("comment", text(&r.Comment)),
		col("author", text(&r.Author)),
		col("time", moment(&r.Time))}
}}

func (tx *Tx) Release(name string) (ledger.Release, error) {
	return one(tx, releases, "where name = ?", name)
}

func (tx *Tx) Releases() ([]ledger.Release, error) {
	return list(tx, releases, "order by time desc, name")
}

// AddRelease records a release; ErrTaken when the name is in use.
func (tx *Tx) AddRelease(r ledger.Release) error { return insert(tx, releases, r) }
