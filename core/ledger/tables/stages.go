package tables

import "oakenchest/core/ledger"

var deployments = &table[ledger.Deployment]{name: "deployments", since: 1, sumsSince: 2, follows: byMoment,
	bind: func(d *ledger.Deployment) []column {
		return []column{serial("id", number(&d.Number)), col("environment", text(&d.Environment)), col("commit_id", id(&d.Commit)),
			col("author", text(&d.Author)), col("workspace", text(&d.Workspace)), col("time", moment(&d.Time)),
			col("source", text(&d.Source)), col("steps", number(&d.Steps))}
	}, indexes: []index{{name: "deployments_environment", on: "(environment, id desc)", since: 1}}}

// AddDeployment records a deployment, and gives its number.
func (tx *Tx) AddDeployment(d ledger.Deployment) (number int64, err error) {
	return insertCounted(tx, deployments, d)
}

// standing leaves out deployments that were taken back.
const standing = "not in (select deployment from undone)"

// LastDeployment answers ledger.Stages, as do the other questions here.
func (tx *Tx) LastDeployment(environment string) (ledger.Deployment, error) {
	return one(tx, deployments, "where environment = ? and id "+standing+" order by id desc limit 1", environment)
}

func (tx *Tx) Deployments(environment string) ([]ledger.Deployment, error) {
	if environment == "" {
		return list(tx, deployments, "order by id desc")
	}
	return list(tx, deployments, "where environment = ? order by id desc", environment)
}

var accounts = &table[ledger.Account]{name: "accounts", since: 5, follows: byMoment, bind: func(a *ledger.Account) []column {
	return []column{key("deployment", number(&a.Deployment)), col("action", text(&a.Action)), col("origin", text(&a.Origin)),
		col("lane", text(&a.Lane)),
		col("source", id(&a.Source)), col("began", moment(&a.Began)), col("took", span(&a.Took)), col("gates", text(&a.Gates)),
		col("items", lines(&a.Items)), col("reason", text(&a.Reason)), col("tree", text(&a.Tree)),
		col("plan", text(&a.Plan)).from(8), col("after", text(&a.After)).from(8)}
}}

// AddAccount notes what is known of a deployment.
func (tx *Tx) AddAccount(a ledger.Account) error { return insert(tx, accounts, a) }

func (tx *Tx) Accounts() (map[int64]ledger.Account, error) {
	rows, err := list(tx, accounts, "")
	out := make(map[int64]ledger.Account, len(rows))
	for _, a := range rows {
		out[a.Deployment] = a
	}
	return out, err
}

// Account answers ledger.Stages.
func (tx *Tx) Account(deployment int64) (ledger.Account, error) {
	return one(tx, accounts, "where deployment = ?", deployment)
}

// NoteAfter notes what was run after a deployment; ErrNotFound when nothing is known of that.
func (tx *Tx) NoteAfter(deployment int64, after string) error {
	a, err := tx.Account(deployment)
	if err != nil {
		return err
	}
	a.After = after
	return rewrite(tx, accounts, a, "")
}

var undone = &table[ledger.Undone]{name: "undone", since: 3, follows: byMoment, bind: func(u *ledger.Undone) []column {
	return []column{key("deployment", number(&u.Deployment)), col("author", text(&u.Author)), col("workspace", text(&u.Workspace)),
		col("time", moment(&u.Time))}
}}

// Undo records that a deployment was taken back, with those into the environment that came after it and
// changed nothing.
func (tx *Tx) Undo(environment string, first int64, by ledger.Undone) error {
	rows, err := list(tx, deployments, "where environment = ? and id >= ? and id "+standing, environment, first)
	for _, d := range rows {
		if err == nil {
			by.Deployment = d.Number
			err = insert(tx, undone, by)
		}
	}
	return err
}

func (tx *Tx) AllUndone() (map[int64]ledger.Undone, error) {
	rows, err := list(tx, undone, "")
	out := make(map[int64]ledger.Undone, len(rows))
	for _, u := range rows {
		out[u.Deployment] = u
	}
	return out, err
}

var kept = &table[ledger.Kept]{name: "kept", since: 3, follows: byMoment, bind: func(k *ledger.Kept) []column {
	return []column{serial("id", number(&k.ID)), col("environment", text(&k.Environment)), col("time", moment(&k.Time)),
		col("tree", text(&k.Tree)),
		col("deployment", number(&k.Deployment))}
}, indexes: []index{{name: "kept_environment", on: "(environment, id desc)", since: 3}}}

// Keep records what an environment holds before a deployment that is about to begin, and gives the record's
// number.
func (tx *Tx) Keep(k ledger.Kept) (id int64, err error) { return insertCounted(tx, kept, k) }

// Forget takes away what was kept for a deployment that changed nothing, or that was taken back.
func (tx *Tx) Forget(id int64) error {
	return missingIsFine(remove(tx, kept, "where id = ?", id))
}

// Number says which deployment what was kept belongs to.
func (tx *Tx) Number(id, deployment int64) error {
	k, err := one(tx, kept, "where id = ?", id)
	if err != nil {
		return err
	}
	k.Deployment = deployment
	return rewrite(tx, kept, k, "")
}

func (tx *Tx) AllKept() ([]ledger.Kept, error) { return list(tx, kept, "order by id") }

// ofDeployments chooses what is kept of an environment, and was not taken back or laid aside.
const ofDeployments = "where environment = ? and deployment <> -2 and deployment " + standing + " order by id desc"

func (tx *Tx) LastKept(environment string) (ledger.Kept, error) {
	return one(tx, kept, ofDeployments+" limit 1", environment)
}

func (tx *Tx) KeptSince(environment string) ([]ledger.Kept, error) {
	return list(tx, kept, ofDeployments, environment)
}

// proof says by which rules a deployment was proven for a folder.
type proof struct {
	deployment    int64
	folder, rules string
}

var proofs = &table[proof]{name: "proofs", since: 6, follows: byMoment, bind: func(p *proof) []column {
	return []column{key("deployment", number(&p.deployment)), key("folder", text(&p.folder)), col("rules", text(&p.rules))}
}}

// AddProof notes that a deployment was proven for a folder, by rules that say what of it is tracked.
func (tx *Tx) AddProof(deployment int64, folder, rules string) error {
	return insert(tx, proofs, proof{deployment, folder, rules})
}

func (tx *Tx) Proofs(deployment int64) (map[string]string, error) {
	rows, err := list(tx, proofs, "where deployment = ?", deployment)
	out := make(map[string]string, len(rows))
	for _, p := range rows {
		out[p.folder] = p.rules
	}
	return out, err
}

// absent is an absence with its number.
type absent struct {
	id int64
	ledger.Absence
}

var absences = &table[absent]{name: "absences", since: 6, follows: byMoment, bind: func(a *absent) []column {
	return []column{serial("id", number(&a.id)), col("environment", text(&a.Environment)), col("work", id(&a.Work)),
		col("person", text(&a.Person)),
		col("time", moment(&a.Time)), col("reason", text(&a.Reason)), col("kept", number(&a.Kept))}
}, indexes: []index{{name: "absences_environment", on: "(environment, id)", since: 6}}}

// AddAbsence notes that a work was taken back.
func (tx *Tx) AddAbsence(a ledger.Absence) error { return insert(tx, absences, absent{Absence: a}) }

func (tx *Tx) Absences() (map[string][]ledger.Absence, error) {
	rows, err := list(tx, absences, "order by id")
	out := map[string][]ledger.Absence{}
	for _, a := range rows {
		out[a.Environment] = append(out[a.Environment], a.Absence)
	}
	return out, err
}

// attempt is an attempt with its number.
type attempt struct {
	id int64
	ledger.Attempt
}

var attempts = &table[attempt]{name: "attempts", since: 6, follows: byMoment, bind: func(a *attempt) []column {
	return []column{serial("id", number(&a.id)), col("environment", text(&a.Environment)), col("action", text(&a.Action)),
		col("person", text(&a.Person)),
		col("workspace", text(&a.Workspace)), col("time", moment(&a.Time)), col("outcome", text(&a.Outcome)), col("said", text(&a.Said))}
}}

// AddAttempt notes what somebody tried.
func (tx *Tx) AddAttempt(a ledger.Attempt) error { return insert(tx, attempts, attempt{Attempt: a}) }

func (tx *Tx) Attempts(environment string) ([]ledger.Attempt, error) {
	rows, err := list(tx, attempts, "where environment = ? or ? = '' order by id desc", environment, environment)
	out := make([]ledger.Attempt, len(rows))
	for i, a := range rows {
		out[i] = a.Attempt
	}
	return out, err
}

var looks = &table[ledger.Look]{name: "looks", since: 5, follows: byMoment, bind: func(l *ledger.Look) []column {
	return []column{key("environment", text(&l.Environment)), col("time", moment(&l.Time)), col("commit_id", id(&l.Commit)),
		col("differences", number(&l.Differences)), col("failure", text(&l.Failure)), col("person", text(&l.Person))}
}}

// PutLook records the newest look at an environment.
func (tx *Tx) PutLook(l ledger.Look) error { return put(tx, looks, l) }

func (tx *Tx) Looks() (map[string]ledger.Look, error) {
	rows, err := list(tx, looks, "")
	out := make(map[string]ledger.Look, len(rows))
	for _, l := range rows {
		out[l.Environment] = l
	}
	return out, err
}

// byNumber are the tables of an environment's records that have a number for a key.
var byNumber = []declared{deployments, kept, absences, attempts, approvals, bookings}

// RenameEnvironment lets all records of an environment speak of it by another name, of which there must be
// none yet: ErrTaken.
func (tx *Tx) RenameEnvironment(from, to string) error {
	there, err := tx.Deployments(to)
	if err != nil {
		return err
	}
	if len(there) > 0 {
		return ledger.ErrTaken
	}
	for _, t := range append([]declared{looks}, byNumber...) {
		if err := tx.respell(t, "environment", from, to); err != nil {
			return err
		}
	}
	for _, t := range []declared{pending, choices, planned} {
		for _, end := range []string{"origin", "target"} {
			if err := tx.respell(t, end, from, to); err != nil {
				return err
			}
		}
	}
	return nil
}

// respell writes one text in place of another in a column.
func (tx *Tx) respell(t declared, column, from, to string) error {
	at, err := tx.moment()
	if err != nil {
		return err
	}
	if _, err := tx.exec("update "+t.title()+" set "+column+" = ?, at = ? where "+column+" = ?", to, at, from); err != nil {
		return err
	}
	return tx.resum(t, "where "+column+" = ?", to)
}
