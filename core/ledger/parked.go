package ledger

import "time"

// Parked is work that somebody has set aside under a name.
type Parked struct {
	Person, Name string
	Workspace    string
	Branch       string
	// Base is the commit that the work was done on; zero before the first.
	Base ID
	// Tree is the digest of the base with the work in it, in hexadecimal digits.
	Tree string
	Time time.Time
	Note string
	// Shared says that others see it too.
	Shared bool
	// Paths lists what was set aside, a path on each line.
	Paths string
}

func scanParked(scan func(...any) error) (Parked, error) {
	var p Parked
	var base string
	var ms int64
	if err := scan(&p.Person, &p.Name, &p.Workspace, &p.Branch, &base, &p.Tree, &ms, &p.Note, &p.Shared, &p.Paths); err != nil {
		return p, err
	}
	p.Time = time.UnixMilli(ms).UTC()
	var err error
	p.Base, err = parseOptional(base)
	return p, err
}

const parkedColumns = "select person, name, workspace, branch, base, tree, time, note, shared, paths from parked"

// AllParked gives everything that is set aside, by person and name.
func (tx *Tx) AllParked() ([]Parked, error) {
	return rows(tx, scanParked, parkedColumns+" order by person, name")
}

// Parked gives what a person has set aside under a name, or ErrNotFound.
func (tx *Tx) Parked(person, name string) (Parked, error) {
	p, err := scanParked(tx.tx.QueryRowContext(tx.ctx, parkedColumns+" where person = ? and name = ?", person, name).Scan)
	return p, one(err)
}

// AddParked records work that is set aside; ErrTaken when the person has used the name.
func (tx *Tx) AddParked(p Parked) error {
	return tx.insert("parked", p.Person, p.Name, p.Workspace, p.Branch, optional(p.Base), p.Tree, p.Time.UnixMilli(), p.Note, flag(p.Shared), p.Paths)
}

// RemoveParked takes the record away.
func (tx *Tx) RemoveParked(person, name string) error {
	return tx.remove("delete from parked where person = ? and name = ?", person, name)
}
