package ledger

import (
	"strings"
	"time"
)

// recordsSchema came with version 6.
const recordsSchema = `
create table proofs (deployment integer not null, folder text not null, rules text not null, sum integer not null, primary key (deployment, folder)) without rowid;
create table takings (commit_id text not null, work text not null, sum integer not null, primary key (commit_id, work)) without rowid;
create table absences (id integer primary key, environment text not null, work text not null, person text not null, time integer not null, reason text not null, kept integer not null, sum integer not null);
create index absences_environment on absences (environment, id);
create index touches_commit on touches (commit_id);
create table attempts (id integer primary key, environment text not null, action text not null, person text not null, workspace text not null, time integer not null, outcome text not null, said text not null, sum integer not null);
create table pending (id integer primary key, origin text not null, target text not null, chosen text not null, person text not null, time integer not null, sum integer not null, unique (origin, target));
create table choices (id integer primary key, origin text not null, target text not null, address text not null, sides text not null, keep text not null, sort text not null, value text not null, person text not null, time integer not null, sum integer not null, unique (origin, target, address));
create table approved_trees (approval integer primary key, tree text not null, sum integer not null);
`

// LinePrefix begins the names of lines: branches that nobody lists, which hold what
// environments were found to hold beside all listed ones. No listed branch can have such a
// name.
const LinePrefix = "record:"

// IsLine reports whether a branch is a line.
func IsLine(branch string) bool { return strings.HasPrefix(branch, LinePrefix) }

// LineOf gives the environment that a line belongs to; ok is false for other branches.
func LineOf(branch string) (environment string, ok bool) {
	rest, ok := strings.CutPrefix(branch, LinePrefix)
	if i := strings.LastIndexByte(rest, '/'); ok && i >= 0 {
		return rest[:i], true
	}
	return "", false
}

// Lines gives the lines of an environment, by name.
func (tx *Tx) Lines(environment string) ([]Branch, error) {
	from := LinePrefix + environment + "/"
	return rows(tx, scanBranch, "select name, tip, origin, author, time from branches where name >= ? and name < ? order by name", from, from+"\uffff")
}

// AddProof notes that the newest deployment was proven for a folder, by rules that say
// what of it is tracked.
func (tx *Tx) AddProof(folder, rules string) error {
	n, err := tx.lastNumber()
	if err != nil {
		return err
	}
	return tx.insert("proofs", n, folder, rules)
}

// Proofs gives the rules by which a deployment was proven, by folder; empty for one that
// an older program recorded.
func (tx *Tx) Proofs(deployment int64) (map[string]string, error) {
	type proof struct{ folder, rules string }
	list, err := rows(tx, func(scan func(...any) error) (p proof, err error) { return p, scan(&p.folder, &p.rules) },
		"select folder, rules from proofs where deployment = ?", deployment)
	out := make(map[string]string, len(list))
	for _, p := range list {
		out[p.folder] = p.rules
	}
	return out, err
}

// AddTaking notes that a commit takes a work back.
func (tx *Tx) AddTaking(commit, work ID) error {
	return tx.insert("takings", commit.String(), work.String())
}

// Taking says that a commit takes a work back.
type Taking struct{ Commit, Work ID }

// Takings gives all of them.
func (tx *Tx) Takings() ([]Taking, error) {
	return rows(tx, func(scan func(...any) error) (t Taking, err error) {
		var a, b string
		if err := scan(&a, &b); err != nil {
			return t, err
		}
		if t.Commit, err = ParseID(a); err == nil {
			t.Work, err = ParseID(b)
		}
		return t, err
	}, "select commit_id, work from takings order by commit_id, work")
}

// Absence says that a work was taken back from an environment. It holds until the
// environment has the work again.
type Absence struct {
	Environment string
	Work        ID
	Person      string
	Time        time.Time
	Reason      string
	// Kept is the number of what the environment held before, with what was lost; 0 for none.
	Kept int64
}

// AddAbsence notes it.
func (tx *Tx) AddAbsence(a Absence) error {
	return tx.insert("absences", a.Environment, a.Work.String(), a.Person, a.Time.UnixMilli(), a.Reason, a.Kept)
}

// Absences gives what was taken back from each environment, the oldest first.
func (tx *Tx) Absences() (map[string][]Absence, error) {
	list, err := rows(tx, func(scan func(...any) error) (a Absence, err error) {
		var work string
		var ms int64
		if err := scan(&a.Environment, &work, &a.Person, &ms, &a.Reason, &a.Kept); err != nil {
			return a, err
		}
		a.Time = time.UnixMilli(ms).UTC()
		a.Work, err = ParseID(work)
		return a, err
	}, "select environment, work, person, time, reason, kept from absences order by id")
	out := map[string][]Absence{}
	for _, a := range list {
		out[a.Environment] = append(out[a.Environment], a)
	}
	return out, err
}

// RenameEnvironment lets all records of an environment speak of it by another name, of which
// there must be none yet: ErrTaken.
func (tx *Tx) RenameEnvironment(from, to string) error {
	taken, err := tx.Deployments(to)
	if err != nil {
		return err
	}
	if len(taken) > 0 {
		return ErrTaken
	}
	for table, key := range map[string]string{"deployments": "id", "kept": "id", "absences": "id", "attempts": "id", "approvals": "id", "bookings": "id", "looks": "environment"} {
		if _, err := tx.tx.ExecContext(tx.ctx, "update "+table+" set environment = ? where environment = ?", to, from); err != nil {
			return err
		}
		if err := tx.guardAll(table, key); err != nil {
			return err
		}
	}
	for _, table := range []string{"pending", "choices"} {
		for _, end := range []string{"origin", "target"} {
			if _, err := tx.tx.ExecContext(tx.ctx, "update "+table+" set "+end+" = ? where "+end+" = ?", to, from); err != nil {
				return err
			}
		}
		if err := tx.guardAll(table, "id"); err != nil {
			return err
		}
	}
	return nil
}

// Attempt is something that somebody tried to do to an environment, and that did not come
// about.
type Attempt struct {
	Environment, Action string
	Person, Workspace   string
	Time                time.Time
	// Outcome is refused or failed; Said is the reason.
	Outcome, Said string
}

// AddAttempt notes it.
func (tx *Tx) AddAttempt(a Attempt) error {
	return tx.insert("attempts", a.Environment, a.Action, a.Person, a.Workspace, a.Time.UnixMilli(), a.Outcome, a.Said)
}

// Attempts gives those at an environment, all for an empty name, the newest first.
func (tx *Tx) Attempts(environment string) ([]Attempt, error) {
	return rows(tx, func(scan func(...any) error) (a Attempt, err error) {
		var ms int64
		err = scan(&a.Environment, &a.Action, &a.Person, &a.Workspace, &ms, &a.Outcome, &a.Said)
		a.Time = time.UnixMilli(ms).UTC()
		return a, err
	}, "select environment, action, person, workspace, time, outcome, said from attempts where environment = ? or ? = '' order by id desc", environment, environment)
}
