package ledger

import "time"

// Deployment records that a commit was carried into an environment.
type Deployment struct {
	Number      int64
	Environment string
	Commit      ID
	Author      string
	Workspace   string
	Time        time.Time
	// Source is what was asked for: a state as it was written, or env:NAME for a promotion.
	Source string
	// Steps counts the statements that were run.
	Steps int
}

func scanDeployment(scan func(...any) error) (Deployment, error) {
	var d Deployment
	var id string
	var ms int64
	if err := scan(&d.Number, &d.Environment, &id, &d.Author, &d.Workspace, &ms, &d.Source, &d.Steps); err != nil {
		return d, err
	}
	d.Time = time.UnixMilli(ms).UTC()
	var err error
	d.Commit, err = ParseID(id)
	return d, err
}

// AddDeployment records a deployment.
func (tx *Tx) AddDeployment(d Deployment) error {
	return tx.insert("deployments", d.Environment, d.Commit.String(), d.Author, d.Workspace, d.Time.UnixMilli(), d.Source, d.Steps)
}

// lastNumber gives the number of the newest deployment.
func (tx *Tx) lastNumber() (n int64, err error) {
	err = tx.tx.QueryRowContext(tx.ctx, "select coalesce(max(id), 0) from deployments").Scan(&n)
	return n, err
}

// LastDeployment gives the newest deployment into an environment that was not undone, or
// ErrNotFound.
func (tx *Tx) LastDeployment(environment string) (Deployment, error) {
	d, err := scanDeployment(tx.tx.QueryRowContext(tx.ctx,
		deploymentFields+" where environment = ? and id not in (select deployment from undone) order by id desc limit 1", environment).Scan)
	return d, one(err)
}
