package ledger

import "time"

// Kept is what an environment held before a deployment: a tree of files in the chest.
type Kept struct {
	ID          int64
	Environment string
	Time        time.Time
	// Tree is the digest of the tree, in hexadecimal digits.
	Tree string
	// Deployment is the number of the deployment; 0 for one that was begun and not
	// finished, Unnumbered for one that is no deployment of a commit.
	Deployment int64
}

// Unnumbered marks what was kept before an environment was changed otherwise than by the
// deployment of a commit.
const Unnumbered = -1

// Aside marks what was kept before something was taken back: it belongs to no deployment,
// and is there for when the work comes again.
const Aside = -2

func scanKept(scan func(...any) error) (Kept, error) {
	var k Kept
	var ms int64
	err := scan(&k.ID, &k.Environment, &ms, &k.Tree, &k.Deployment)
	k.Time = time.UnixMilli(ms).UTC()
	return k, err
}

const keptFields = "select id, environment, time, tree, deployment from kept"

// Keep records what an environment holds before a deployment that is about to begin, and
// gives the record's number.
func (tx *Tx) Keep(k Kept) (id int64, err error) {
	if err := tx.insert("kept", k.Environment, k.Time.UnixMilli(), k.Tree, k.Deployment); err != nil {
		return 0, err
	}
	err = tx.tx.QueryRowContext(tx.ctx, "select max(id) from kept").Scan(&id)
	return id, err
}

// Forget takes away what was kept for a deployment that changed nothing, or that was
// taken back.
func (tx *Tx) Forget(id int64) error {
	_, err := tx.tx.ExecContext(tx.ctx, "delete from kept where id = ?", id)
	return err
}

// AllKept gives everything that is kept, the oldest first.
func (tx *Tx) AllKept() ([]Kept, error) { return rows(tx, scanKept, keptFields+" order by id") }

// LastKept gives what an environment held before the newest deployment that was not
// undone, or before one that was begun and not finished since; or ErrNotFound.
func (tx *Tx) LastKept(environment string) (Kept, error) {
	k, err := scanKept(tx.tx.QueryRowContext(tx.ctx, keptFields+" where environment = ? and deployment <> -2 and deployment not in (select deployment from undone) order by id desc limit 1", environment).Scan)
	return k, one(err)
}

// Finish records a deployment, and that what was kept belongs to it; id is 0 when nothing
// was.
func (tx *Tx) Finish(id int64, d Deployment) error {
	if err := tx.AddDeployment(d); err != nil || id == 0 {
		return err
	}
	n, err := tx.lastNumber()
	if err != nil {
		return err
	}
	return tx.Number(id, n)
}

// NumberAll says that what was kept belongs to the newest deployment; 0 is nothing.
func (tx *Tx) NumberAll(kept []int64) error {
	n, err := tx.lastNumber()
	for _, id := range kept {
		if err == nil && id != 0 {
			err = tx.Number(id, n)
		}
	}
	return err
}

// Number says which deployment what was kept belongs to.
func (tx *Tx) Number(id, n int64) error {
	k, err := scanKept(tx.tx.QueryRowContext(tx.ctx, keptFields+" where id = ?", id).Scan)
	if err != nil {
		return one(err)
	}
	_, err = tx.tx.ExecContext(tx.ctx, "update kept set deployment = ?, sum = ? where id = ?", n, rowSum([]any{k.Environment, k.Time.UnixMilli(), k.Tree, n}), id)
	return err
}

// Undo records that a deployment was taken back, with those into the environment that
// came after it and changed nothing.
func (tx *Tx) Undo(k Kept, author, workspace string, at time.Time) error {
	list, err := rows(tx, func(scan func(...any) error) (n int64, err error) { return n, scan(&n) },
		"select id from deployments where environment = ? and id >= ? and id not in (select deployment from undone)", k.Environment, k.Deployment)
	for _, n := range list {
		if err == nil {
			err = tx.insert("undone", n, author, workspace, at.UnixMilli())
		}
	}
	return err
}
