package ledger

import (
	"strings"
	"time"
)

// stagesSchema came with version 5.
const stagesSchema = `
create table accounts (
  deployment integer primary key, action text not null, origin text not null, lane text not null, source text not null, began integer not null, took integer not null,
  gates text not null, items text not null, reason text not null, tree text not null, sum integer not null);
create table approvals (id integer primary key, environment text not null, commit_id text not null, person text not null, time integer not null, text text not null, withdrawn integer not null, sum integer not null);
create index approvals_environment on approvals (environment, commit_id);
create table bookings (
  id integer primary key, environment text not null, lane text not null, person text not null, workspace text not null, asked integer not null,
  begins integer not null, ends integer not null, lasts integer not null, note text not null, ended integer not null, sum integer not null);
create index bookings_environment on bookings (environment, id);
create table picks (commit_id text primary key, origin text not null, sum integer not null) without rowid;
create table deeds (commit_id text primary key, deed text not null, sum integer not null) without rowid;
create index deeds_deed on deeds (deed);
create table settled (commit_id text primary key, sum integer not null) without rowid;
create table distincts (one text not null, other text not null, person text not null, time integer not null, reason text not null, sum integer not null, primary key (one, other)) without rowid;
create table looks (environment text primary key, time integer not null, commit_id text not null, differences integer not null, failure text not null, person text not null, sum integer not null) without rowid;
`

// Account tells more of a deployment than that it was made.
type Account struct {
	Deployment int64
	// Action is the word for what it was: deploy, promote, backfill, branch, settle.
	Action string
	// Origin is the environment that it came from; empty for none. Lane is that of the
	// work; Source is the commit that was promoted, which a merge may have made another of.
	Origin, Lane string
	Source       ID
	Began        time.Time
	Took         time.Duration
	// Gates tells what each gate said, as JSON.
	Gates string
	// Items lists the work items that came with it, sorted.
	Items []string
	// Reason is why a gate was overridden; empty when none was.
	Reason string
	// Tree is the digest, in hexadecimal, of a tree with the statements and the gates'
	// output; empty for none.
	Tree string
}

func (a Account) fields() []any {
	return []any{a.Deployment, a.Action, a.Origin, a.Lane, a.Source.String(), a.Began.UnixMilli(), a.Took.Milliseconds(), a.Gates, strings.Join(a.Items, "\n"), a.Reason, a.Tree}
}

func scanAccount(scan func(...any) error) (Account, error) {
	var a Account
	var began, took int64
	var items, source string
	err := scan(&a.Deployment, &a.Action, &a.Origin, &a.Lane, &source, &began, &took, &a.Gates, &items, &a.Reason, &a.Tree)
	if err == nil {
		a.Source, err = ParseID(source)
	}
	a.Began, a.Took = time.UnixMilli(began).UTC(), time.Duration(took)*time.Millisecond
	if items != "" {
		a.Items = strings.Split(items, "\n")
	}
	return a, err
}

const accountFields = "select deployment, action, origin, lane, source, began, took, gates, items, reason, tree from accounts"

// AddAccount notes what is known of the newest deployment.
func (tx *Tx) AddAccount(a Account) (err error) {
	if a.Deployment, err = tx.lastNumber(); err != nil {
		return err
	}
	return tx.insert("accounts", a.fields()...)
}

// Accounts gives what is known of deployments, by number.
func (tx *Tx) Accounts() (map[int64]Account, error) {
	list, err := rows(tx, scanAccount, accountFields)
	out := make(map[int64]Account, len(list))
	for _, a := range list {
		out[a.Deployment] = a
	}
	return out, err
}

// Undone tells who took a deployment back, and when.
type Undone struct {
	Deployment        int64
	Author, Workspace string
	Time              time.Time
}

// AllUndone gives the deployments that were taken back, by number.
func (tx *Tx) AllUndone() (map[int64]Undone, error) {
	list, err := rows(tx, func(scan func(...any) error) (u Undone, err error) {
		var ms int64
		err = scan(&u.Deployment, &u.Author, &u.Workspace, &ms)
		u.Time = time.UnixMilli(ms).UTC()
		return u, err
	}, "select deployment, author, workspace, time from undone")
	out := make(map[int64]Undone, len(list))
	for _, u := range list {
		out[u.Deployment] = u
	}
	return out, err
}

const deploymentFields = "select id, environment, commit_id, author, workspace, time, source, steps from deployments"

// Deployments gives those into an environment, or all for an empty name, the newest first.
func (tx *Tx) Deployments(environment string) ([]Deployment, error) {
	if environment == "" {
		return rows(tx, scanDeployment, deploymentFields+" order by id desc")
	}
	return rows(tx, scanDeployment, deploymentFields+" where environment = ? order by id desc", environment)
}

// KeptSince gives what an environment held before each deployment that is not undone, the
// newest first; what was begun and not finished comes with them.
func (tx *Tx) KeptSince(environment string) ([]Kept, error) {
	return rows(tx, scanKept, keptFields+" where environment = ? and deployment <> -2 and deployment not in (select deployment from undone) order by id desc", environment)
}

// Assent says that a person wants a commit in an environment, or, where people settled what
// was in conflict, just the tree that came of it.
type Assent struct {
	ID          int64
	Environment string
	Commit      ID
	Person      string
	Time        time.Time
	Text        string
	// Withdrawn says that the person took an earlier one back.
	Withdrawn bool
	// Tree is what was settled, in hexadecimal; empty where nothing was in conflict.
	Tree string
}

// AddAssent records what a person says; the last word counts.
func (tx *Tx) AddAssent(a Assent) error {
	if err := tx.insert("approvals", a.Environment, a.Commit.String(), a.Person, a.Time.UnixMilli(), a.Text, flag(a.Withdrawn)); err != nil || a.Tree == "" {
		return err
	}
	var id int64
	if err := tx.tx.QueryRowContext(tx.ctx, "select max(id) from approvals").Scan(&id); err != nil {
		return err
	}
	return tx.insert("approved_trees", id, a.Tree)
}

// Assents gives who wants a commit in an environment, by their last words, the first
// one first.
func (tx *Tx) Assents(environment string, commit ID) ([]Assent, error) {
	list, err := rows(tx, func(scan func(...any) error) (Assent, error) {
		a := Assent{Commit: commit}
		var ms int64
		err := scan(&a.ID, &a.Environment, &a.Person, &ms, &a.Text, &a.Withdrawn, &a.Tree)
		a.Time = time.UnixMilli(ms).UTC()
		return a, err
	}, "select id, environment, person, time, text, withdrawn, coalesce((select tree from approved_trees where approval = id), '') from approvals where environment = ? and commit_id = ? order by id", environment, commit.String())
	last := map[string]int64{}
	for _, a := range list {
		last[a.Person] = a.ID
	}
	var out []Assent
	for _, a := range list {
		if last[a.Person] == a.ID && !a.Withdrawn {
			out = append(out, a)
		}
	}
	return out, err
}

// Booking reserves an environment for a lane.
type Booking struct {
	ID                int64
	Environment, Lane string
	Person, Workspace string
	Asked, Begins     time.Time
	// Ends is when it ends; zero when it lasts for Lasts from when it begins.
	Ends  time.Time
	Lasts time.Duration
	Note  string
	// Ended is when somebody ended it before its time; zero when nobody did.
	Ended time.Time
}

func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func ofMillis(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

func (b Booking) fields() []any {
	return []any{b.Environment, b.Lane, b.Person, b.Workspace, millis(b.Asked), millis(b.Begins), millis(b.Ends), b.Lasts.Milliseconds(), b.Note, millis(b.Ended)}
}

// AddBooking records a booking, and gives its number.
func (tx *Tx) AddBooking(b Booking) (id int64, err error) {
	if err := tx.insert("bookings", b.fields()...); err != nil {
		return 0, err
	}
	err = tx.tx.QueryRowContext(tx.ctx, "select max(id) from bookings").Scan(&id)
	return id, err
}

// Bookings gives all bookings, in the order in which they were asked for.
func (tx *Tx) Bookings() ([]Booking, error) {
	return rows(tx, func(scan func(...any) error) (Booking, error) {
		var b Booking
		var asked, begins, ends, lasts, ended int64
		err := scan(&b.ID, &b.Environment, &b.Lane, &b.Person, &b.Workspace, &asked, &begins, &ends, &lasts, &b.Note, &ended)
		b.Asked, b.Begins, b.Ends, b.Ended, b.Lasts = ofMillis(asked), ofMillis(begins), ofMillis(ends), ofMillis(ended), time.Duration(lasts)*time.Millisecond
		return b, err
	}, "select id, environment, lane, person, workspace, asked, begins, ends, lasts, note, ended from bookings order by id")
}

// EndBooking records that a booking has ended.
func (tx *Tx) EndBooking(b Booking, at time.Time) error {
	b.Ended = at
	_, err := tx.tx.ExecContext(tx.ctx, "update bookings set ended = ?, sum = ? where id = ?", millis(at), rowSum(b.fields()), b.ID)
	return err
}

// AddPick notes that a commit brings what another did.
func (tx *Tx) AddPick(commit, origin ID) error {
	return tx.insert("picks", commit.String(), origin.String())
}

// Picks gives, by commit, the one whose work it brings.
func (tx *Tx) Picks() (map[ID]ID, error) {
	type pair struct{ commit, origin ID }
	list, err := rows(tx, func(scan func(...any) error) (p pair, err error) {
		var a, b string
		if err := scan(&a, &b); err != nil {
			return p, err
		}
		if p.commit, err = ParseID(a); err == nil {
			p.origin, err = ParseID(b)
		}
		return p, err
	}, "select commit_id, origin from picks")
	out := make(map[ID]ID, len(list))
	for _, p := range list {
		out[p.commit] = p.origin
	}
	return out, err
}

// AddSettled notes a merge in which people settled something: it is work of its own.
func (tx *Tx) AddSettled(commit ID) error { return tx.insert("settled", commit.String()) }

// Settled gives the merges in which people settled something.
func (tx *Tx) Settled() (map[ID]bool, error) {
	list, err := rows(tx, scanID, "select commit_id from settled")
	out := make(map[ID]bool, len(list))
	for _, id := range list {
		out[id] = true
	}
	return out, err
}

func scanID(scan func(...any) error) (ID, error) {
	var s string
	if err := scan(&s); err != nil {
		return ID{}, err
	}
	return ParseID(s)
}

// Distinct says that two elements are different things, however alike they look.
type Distinct struct {
	// One and Other are addresses, One the lesser.
	One, Other string
	Person     string
	Time       time.Time
	Reason     string
}

// AddDistinct records it, in place of what was said before.
func (tx *Tx) AddDistinct(d Distinct) error {
	return tx.put("distincts", d.One, d.Other, d.Person, d.Time.UnixMilli(), d.Reason)
}

// RemoveDistinct takes it back, or gives ErrNotFound.
func (tx *Tx) RemoveDistinct(one, other string) error {
	return tx.remove("delete from distincts where one = ? and other = ?", one, other)
}

// Distincts gives all of them, sorted.
func (tx *Tx) Distincts() ([]Distinct, error) {
	return rows(tx, func(scan func(...any) error) (Distinct, error) {
		var d Distinct
		var ms int64
		err := scan(&d.One, &d.Other, &d.Person, &ms, &d.Reason)
		d.Time = time.UnixMilli(ms).UTC()
		return d, err
	}, "select one, other, person, time, reason from distincts order by one, other")
}

// Look is what somebody saw who compared an environment with what was deployed there.
type Look struct {
	Environment string
	Time        time.Time
	// Commit is what was deployed there then.
	Commit      ID
	Differences int
	// Failure says why it could not be looked at; empty when it could.
	Failure string
	Person  string
}

// PutLook records the newest look at an environment.
func (tx *Tx) PutLook(l Look) error {
	return tx.put("looks", l.Environment, l.Time.UnixMilli(), l.Commit.String(), l.Differences, l.Failure, l.Person)
}

// Looks gives the newest look at each environment.
func (tx *Tx) Looks() (map[string]Look, error) {
	list, err := rows(tx, func(scan func(...any) error) (Look, error) {
		var l Look
		var ms int64
		var id string
		err := scan(&l.Environment, &ms, &id, &l.Differences, &l.Failure, &l.Person)
		if err == nil {
			l.Commit, err = ParseID(id)
		}
		l.Time = time.UnixMilli(ms).UTC()
		return l, err
	}, "select environment, time, commit_id, differences, failure, person from looks")
	out := make(map[string]Look, len(list))
	for _, l := range list {
		out[l.Environment] = l
	}
	return out, err
}

// CommitsBetween gives the commits of a branch above one depth and up to another, the
// oldest first.
func (tx *Tx) CommitsBetween(branch string, above, upTo int) ([]Commit, error) {
	return rows(tx, scanCommit, "select "+commitColumns+" from commits where branch = ? and depth > ? and depth <= ? order by depth", branch, above, upTo)
}

// Joint is where a branch takes in what another had: by a merge, or where it begins.
type Joint struct {
	Branch string
	Depth  int
	// OtherBranch and OtherDepth are those of the commit that came in.
	OtherBranch string
	OtherDepth  int
}

// Joints gives all merges and beginnings of branches, by branch and depth: with them it is
// known of each commit what it stands on.
func (tx *Tx) Joints() ([]Joint, error) {
	scan := func(scan func(...any) error) (j Joint, err error) {
		return j, scan(&j.Branch, &j.Depth, &j.OtherBranch, &j.OtherDepth)
	}
	merges, err := rows(tx, scan, "select c.branch, c.depth, p.branch, p.depth from commits c join commits p on p.id = c.parent2 where c.parent2 is not null order by c.branch, c.depth")
	if err != nil {
		return nil, err
	}
	begins, err := rows(tx, scan, `select c.branch, c.depth, p.branch, p.depth from (select branch, min(depth) as depth from commits group by branch) b
		join commits c on c.branch = b.branch and c.depth = b.depth join commits p on p.id = c.parent where p.branch <> c.branch`)
	return append(merges, begins...), err
}

// AddDeed notes what a commit did: a name of the change that commits share which change
// the same files from the same content to the same.
func (tx *Tx) AddDeed(id ID, deed string) error { return tx.insert("deeds", id.String(), deed) }

// Alike gives, by commit, the others that did just what it did.
func (tx *Tx) Alike() (map[ID][]Commit, error) {
	type deed struct {
		Commit
		deed string
	}
	list, err := rows(tx, func(scan func(...any) error) (d deed, err error) {
		d.Commit, err = scanCommit(func(fields ...any) error { return scan(append([]any{&d.deed}, fields...)...) })
		return d, err
	}, "select d.deed, c.id, c.branch, c.depth, c.generation, c.parent, c.parent2, c.tree, c.author, c.workspace, c.time, c.message, c.item from deeds d join commits c on c.id = d.commit_id where d.deed in (select deed from deeds group by deed having count(*) > 1) order by d.deed, c.generation, c.time, c.id")
	out := map[ID][]Commit{}
	for i := range list {
		for j := i + 1; j < len(list) && list[j].deed == list[i].deed; j++ {
			out[list[i].ID] = append(out[list[i].ID], list[j].Commit)
			out[list[j].ID] = append(out[list[j].ID], list[i].Commit)
		}
	}
	return out, err
}
