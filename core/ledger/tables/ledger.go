// Package tables keeps the records of a chest as rows of a SQL database: which tables there are, how they are
// read and written, how they are brought up from older formats, how damage is found.
//
// All access is through View and Begin: one transaction each. Finish is durable when it returns. Several
// processes may use one ledger; a writer waits for another, and gives up with ErrBusy after half a minute.
package tables

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	_ "modernc.org/sqlite" // the embedded engine

	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/rights"
	"oakenchest/core/trace"
)

// Version is the format of the records that this program writes.
const Version = 9

// all lists the tables.
var all = []declared{
	commits, branches, releases, locks, deployments, touches, kept, undone, workspaces, edits, notices, parked, reviews, remarks,
	accounts, approvals, bookings, picks, deeds, settled, distincts, looks, proofs, takings, absences, attempts, pending, choices,
	approvedTrees, planned, bundles,
	leases, answers, trail,
}

// schema gives the statements that make an empty ledger.
func schema() []string {
	out := append([]string{"create table format (version integer not null)"}, following()...)
	for _, t := range all {
		out = append(out, t.create()...)
	}
	return out
}

// Ledger is an open database of records. It may be shared by goroutines. A nil one is out of reach: its
// methods fail with ErrAway.
type Ledger struct {
	db *sql.DB
	// reads are connections for views, where they need not wait for who writes; nil when db serves both.
	reads *sql.DB
	group *group // those who change served records; nil else
}

// Create makes a new ledger in an SQLite file that must not exist yet.
func Create(ctx context.Context, file string) (*Ledger, error) {
	// The files that SQLite makes beside it take its rights.
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err == nil {
		err = errors.Join(f.Chmod(rights.File(filepath.Dir(file))), f.Close())
	}
	if err != nil {
		return nil, err
	}
	l, err := connect(file, shared)
	if err != nil {
		return nil, err
	}
	err = l.Update(ctx, func(tx *Tx) error {
		for _, s := range schema() {
			if _, err := tx.exec(s); err != nil {
				return err
			}
		}
		if err := tx.beginMoments(); err != nil {
			return err
		}
		_, err := tx.exec("insert into format (version) values (?)", Version)
		return err
	})
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Open opens an existing ledger; ErrNewer when a newer program wrote it.
func Open(ctx context.Context, file string) (*Ledger, error) { return open(ctx, file, shared) }

// OpenServed opens a ledger that this process alone uses, and many in it at once: views don't wait for who writes.
func OpenServed(ctx context.Context, file string) (*Ledger, error) {
	l, err := open(ctx, file, served)
	if err != nil {
		return nil, err
	}
	reads, err := connect(file, served)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	reads.db.SetMaxOpenConns(viewsAtOnce)
	reads.db.SetMaxIdleConns(viewsAtOnce)
	l.reads, l.group = reads.db, &group{ledger: l}
	return l, nil
}

// OpenCopy opens a copy of records in a file, which follows them. One that is missing, damaged or of another format begins
// anew: nothing is lost with it.
func OpenCopy(ctx context.Context, file string) (*Ledger, error) {
	l, err := open(ctx, file, copied)
	if err == nil {
		return l, nil
	}
	if ctx.Err() != nil || errors.Is(err, ledger.ErrBusy) {
		return nil, err
	}
	for _, ending := range []string{"", "-journal", "-wal", "-shm"} {
		if err := os.Remove(file + ending); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	if l, err = Create(ctx, file); err != nil {
		return nil, err
	}
	if _, err := l.db.ExecContext(ctx, "create index commits_tree on commits (tree)"); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	if err := l.Close(); err != nil {
		return nil, err
	}
	return open(ctx, file, copied)
}

// CommitOf gives a commit whose tree one is; ErrNotFound when there is none. It is quick in a copy alone.
func (tx *Tx) CommitOf(tree element.Digest) (ledger.Commit, error) {
	return one(tx, commits, "where tree = ? limit 1", ledger.ID(tree).String())
}

// Holds reports whether something other than a commit names a tree, which is given in hexadecimal digits: what is kept
// before a deployment, what is parked, what was approved.
func (tx *Tx) Holds(tree string) (bool, error) {
	n := 0
	err := tx.row(`select count(*) from (select tree from kept where tree = ?1 union all select tree from parked where tree = ?1
		union all select tree from approved_trees where tree = ?1 union all select tree from accounts where tree = ?1)`, tree).Scan(&n)
	return n > 0, err
}

func open(ctx context.Context, file string, how sharing) (*Ledger, error) {
	l, err := connect(file, how)
	if err != nil {
		return nil, err
	}
	if err := l.bringUp(ctx); err != nil {
		l.Close()
		return nil, fmt.Errorf("%s can't be read as records: %w", file, err)
	}
	return l, nil
}

// bringUp looks at the format of the records, and brings older ones up.
func (l *Ledger) bringUp(ctx context.Context) error {
	var version, moved int
	const question = "select version, (select count(*) from sqlite_master where name = 'moved') from format"
	end := trace.Begin(ctx, trace.Statement, question)
	err := l.db.QueryRowContext(ctx, question).Scan(&version, &moved)
	end()
	if err != nil {
		return explain(ctx, err)
	}
	if moved > 0 {
		return l.Update(ctx, func(tx *Tx) error { return tx.movedTo() })
	}
	if version > Version {
		return fmt.Errorf("%w: %d, this program knows %d", ledger.ErrNewer, version, Version)
	}
	if version < Version {
		if err := l.Update(ctx, (*Tx).upgrade); err != nil {
			return fmt.Errorf("they can't be brought to format %d: %w", Version, explain(ctx, err))
		}
	}
	return nil
}

// sharing says who uses a file, and so how it is written.
type sharing string

const (
	// shared is used by several processes, perhaps of several machines: a rollback journal is safe there, where memory-mapped
	// ones are not.
	shared sharing = "_pragma=journal_mode(truncate)&_pragma=synchronous(full)"
	// served is used by one process.
	served sharing = "_pragma=journal_mode(wal)&_pragma=synchronous(full)"
	// copied is used by processes of one machine, and can be had again: what a power failure takes is asked for again.
	copied sharing = "_pragma=journal_mode(wal)&_pragma=synchronous(normal)"
)

// viewsAtOnce is how many may view served records at once.
const viewsAtOnce = 8

// connect opens the file.
func connect(file string, how sharing) (*Ledger, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	u := url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}
	u.RawQuery = "mode=rw&_txlock=immediate&_pragma=busy_timeout(30000)&" + string(how)
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &Ledger{db: db}, nil
}

// Close lets go of the database.
func (l *Ledger) Close() error {
	if l == nil {
		return nil
	}
	if l.group != nil {
		l.group.under.Wait()
	}
	if l.reads != nil {
		return errors.Join(l.reads.Close(), l.db.Close())
	}
	return l.db.Close()
}

// Tx is one transaction; its methods are the only way to the records.
type Tx struct {
	tx  *sql.Tx
	ctx context.Context
	// at is the moment of what the transaction changes; 0 before it has changed anything.
	at int64
}

func (tx *Tx) exec(statement string, args ...any) (sql.Result, error) {
	defer trace.Begin(tx.ctx, trace.Statement, statement)()
	r, err := tx.tx.ExecContext(tx.ctx, statement, args...)
	return r, tx.explain(err)
}

func (tx *Tx) query(statement string, args ...any) (*sql.Rows, error) {
	defer trace.Begin(tx.ctx, trace.Statement, statement)()
	rs, err := tx.tx.QueryContext(tx.ctx, statement, args...)
	return rs, tx.explain(err)
}

// answer is one row that was asked for.
type answer struct {
	tx  *Tx
	row *sql.Row
	end func()
}

func (tx *Tx) row(statement string, args ...any) answer {
	end := trace.Begin(tx.ctx, trace.Statement, statement)
	return answer{tx, tx.tx.QueryRowContext(tx.ctx, statement, args...), end}
}

// Scan reads the row; sql.ErrNoRows when there is none.
func (a answer) Scan(into ...any) error {
	err := a.row.Scan(into...)
	a.end()
	return a.tx.explain(err)
}

// View gives a consistent view of the records. It must be closed: until then nobody else in this process
// gets at them.
func (l *Ledger) View(ctx context.Context) (*Tx, error) {
	if l == nil {
		return nil, ledger.ErrAway
	}
	defer trace.Begin(ctx, trace.View, "")()
	db := l.db
	if l.reads != nil {
		db = l.reads
	}
	return begin(ctx, db, &sql.TxOptions{ReadOnly: true})
}

// Begin begins to change the records; Finish keeps the changes, all of them, and Close without it none.
func (l *Ledger) Begin(ctx context.Context) (*Tx, error) {
	if l == nil {
		return nil, ledger.ErrAway
	}
	return begin(ctx, l.db, nil)
}

func begin(ctx context.Context, db *sql.DB, o *sql.TxOptions) (*Tx, error) {
	tx, err := db.BeginTx(ctx, o)
	if err != nil {
		return nil, explain(ctx, err)
	}
	return &Tx{tx: tx, ctx: ctx}, nil
}

// Finish keeps what was changed, durably.
func (tx *Tx) Finish() error {
	defer trace.Begin(tx.ctx, trace.Statement, "commit")()
	return tx.explain(tx.tx.Commit())
}

// Close ends the transaction; what was not committed is undone.
func (tx *Tx) Close() error {
	_ = tx.tx.Rollback() // there is nothing that it could lose
	return nil
}

// Update runs fn in a transaction of its own, and keeps what it changed when it gives no error.
func (l *Ledger) Update(ctx context.Context, fn func(*Tx) error) error {
	if l != nil && l.group != nil {
		return l.group.update(ctx, fn)
	}
	tx, err := l.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Close()
	if err := fn(tx); err != nil {
		return err
	}
	return tx.Finish()
}
