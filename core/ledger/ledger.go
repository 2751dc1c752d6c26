// Package ledger keeps a chest's records: commits, branches, releases, locks
// and deployments, as rows of a SQL database. The bytes are kept elsewhere; a
// record names them by digest.
//
// All access is through View and Update: one transaction each, which always
// ends. Update is durable when it returns. Several processes may use one ledger;
// a writer waits for another, and gives up with ErrBusy after half a minute.
package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the embedded engine

	"oakenchest/core/rights"
)

// Version is the format of the records that this program writes.
const Version = 6

// Errors that callers act on.
var (
	// ErrNotFound: no such record.
	ErrNotFound = errors.New("no such record")
	// ErrMoved: the branch is not where the caller believed it was.
	ErrMoved = errors.New("the branch has moved")
	// ErrTaken: the name is in use.
	ErrTaken = errors.New("the name is taken")
	// ErrNewer: the records were written by a newer program.
	ErrNewer = errors.New("the records have a newer format")
	// ErrBusy: another process kept the records for too long.
	ErrBusy = errors.New("the records are in use by another process")
	// ErrFull: there is no room to write them.
	ErrFull = errors.New("there is no room for the records")
	// ErrDamaged: they are not what this program wrote.
	ErrDamaged = errors.New("the records are damaged")
	// ErrReadOnly: they can't be written.
	ErrReadOnly = errors.New("the records can't be written")
	// ErrAway: the records are out of reach.
	ErrAway = errors.New("the records are out of reach")
)

const schema = `
create table format (version integer not null);
create table commits (
  id text primary key, branch text not null, depth integer not null, generation integer not null,
  parent text, parent2 text, tree text not null, author text not null, workspace text not null,
  time integer not null, message text not null, item text not null) without rowid;
create index commits_time on commits (time desc);
create table branches (name text primary key, tip text not null, origin text not null, author text not null, time integer not null, sum integer not null) without rowid;
create table releases (name text primary key, commit_id text not null, comment text not null, author text not null, time integer not null, sum integer not null) without rowid;
create table locks (address text primary key, holder text not null, workspace text not null, since integer not null, reason text not null, ends integer not null, sort integer not null, sum integer not null) without rowid;
create table deployments (
  id integer primary key, environment text not null, commit_id text not null, author text not null, workspace text not null,
  time integer not null, source text not null, steps integer not null, sum integer not null);
create index deployments_environment on deployments (environment, id desc);
` + touchesSchema + keptSchema + teamSchema + stagesSchema + recordsSchema

// keptSchema came with version 3.
const keptSchema = `
create table kept (id integer primary key, environment text not null, time integer not null, tree text not null, deployment integer not null, sum integer not null);
create index kept_environment on kept (environment, id desc);
create table undone (deployment integer primary key, author text not null, workspace text not null, time integer not null, sum integer not null);
`

// teamSchema came with version 4.
const teamSchema = `
create index locks_patterns on locks (address) where sort = 1;
create table workspaces (
  name text primary key, mark text not null, person text not null, machine text not null, folder text not null,
  branch text not null, base text not null, held integer not null, seen integer not null, sum integer not null) without rowid;
create table edits (
  workspace text not null, path text not null, state text not null, kind text not null, content text not null, merges integer not null,
  contested integer not null, since integer not null, told text not null, sum integer not null, primary key (workspace, path)) without rowid;
create index edits_path on edits (path);
create table notices (id integer primary key, workspace text not null, time integer not null, text text not null, sum integer not null);
create index notices_workspace on notices (workspace);
create table parked (
  person text not null, name text not null, workspace text not null, branch text not null, base text not null, tree text not null,
  time integer not null, note text not null, shared integer not null, paths text not null, sum integer not null, primary key (person, name)) without rowid;
create table reviews (
  number integer primary key, title text not null, text text not null, item text not null, source text not null, target text not null,
  author text not null, workspace text not null, opened integer not null, state text not null, closer text not null, closed integer not null,
  outcome text not null, sum integer not null);
create table remarks (
  id integer primary key, review integer not null, kind text not null, address text not null, tip text not null, author text not null,
  time integer not null, text text not null, sum integer not null);
create index remarks_review on remarks (review);
`

// touchesSchema came with version 2.
const touchesSchema = `
create table touches (path text not null, commit_id text not null, gone integer not null, origin text not null, sum integer not null, primary key (path, commit_id)) without rowid;
create unique index commits_branch on commits (branch, depth);
create index commits_merges on commits (branch, depth) where parent2 is not null;
create index commits_order on commits (generation desc, time desc, id);
`

// Ledger is an open database of records. It may be shared by goroutines. A nil one is out
// of reach: its methods fail with ErrAway.
type Ledger struct{ db *sql.DB }

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
	l, err := connect(file, "rw")
	if err != nil {
		return nil, err
	}
	err = l.update(ctx, func(tx *Tx) error {
		if _, err := tx.tx.ExecContext(ctx, schema); err != nil {
			return err
		}
		_, err := tx.tx.ExecContext(ctx, "insert into format (version) values (?)", Version)
		return err
	})
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Open opens an existing ledger; ErrNewer when a newer program wrote it.
func Open(ctx context.Context, file string) (*Ledger, error) {
	l, err := connect(file, "rw")
	if err != nil {
		return nil, err
	}
	var version int
	if err := l.db.QueryRowContext(ctx, "select version from format").Scan(&version); err != nil {
		l.Close()
		return nil, fmt.Errorf("%s can't be read as records: %w", file, err)
	}
	if moved := l.movedTo(ctx); moved != nil {
		l.Close()
		return nil, moved
	}
	if version > Version {
		l.Close()
		return nil, fmt.Errorf("%w: %d, this program knows %d", ErrNewer, version, Version)
	}
	if version < Version {
		if err := l.upgrade(ctx); err != nil {
			l.Close()
			return nil, fmt.Errorf("%s can't be brought to format %d: %w", file, Version, err)
		}
	}
	return l, nil
}

// upgrade brings older records to the version of this program, in one transaction.
func (l *Ledger) upgrade(ctx context.Context) error {
	return l.update(ctx, func(tx *Tx) error {
		var version int
		if err := tx.tx.QueryRowContext(ctx, "select version from format").Scan(&version); err != nil || version == Version {
			return err // another process was faster
		}
		if version == 1 {
			if err := tx.secondVersion(); err != nil {
				return err
			}
		}
		if version < 3 {
			if _, err := tx.tx.ExecContext(ctx, keptSchema); err != nil {
				return err
			}
		}
		if version < 4 {
			if err := tx.fourthVersion(); err != nil {
				return err
			}
		}
		if version < 5 {
			if _, err := tx.tx.ExecContext(ctx, stagesSchema); err != nil {
				return err
			}
		}
		if _, err := tx.tx.ExecContext(ctx, recordsSchema); err != nil {
			return err
		}
		_, err := tx.tx.ExecContext(ctx, "update format set version = ?", Version)
		return err
	})
}

// secondVersion brings records of version 1 to version 2: what their commits touched is
// not known, so they count as broad ones, and rows get their sums.
func (tx *Tx) secondVersion() error {
	if _, err := tx.tx.ExecContext(tx.ctx, touchesSchema); err != nil {
		return err
	}
	for table, key := range map[string]string{"branches": "name", "releases": "name", "locks": "", "deployments": "id"} {
		if _, err := tx.tx.ExecContext(tx.ctx, "alter table "+table+" add column sum integer not null default 0"); err != nil {
			return err
		}
		if key == "" { // the fourth version gives it sums
			continue
		}
		if err := tx.guardAll(table, key); err != nil {
			return err
		}
	}
	commits, err := tx.Commits()
	for _, c := range commits {
		err = errors.Join(err, tx.AddTouches(c.ID, nil))
	}
	return err
}

// fourthVersion brings records of version 3 to version 4: locks may end and be patterns,
// and there are records of people at work.
func (tx *Tx) fourthVersion() error {
	for _, column := range []string{"ends", "sort"} {
		if _, err := tx.tx.ExecContext(tx.ctx, "alter table locks add column "+column+" integer not null default 0"); err != nil {
			return err
		}
	}
	if _, err := tx.tx.ExecContext(tx.ctx, teamSchema); err != nil {
		return err
	}
	return tx.guardAll("locks", "address")
}

// connect opens the file with a rollback journal, which is safe on shared
// folders where memory-mapped journals are not, and with full synchronisation.
func connect(file, mode string) (*Ledger, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	u := url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}
	u.RawQuery = "mode=" + mode + "&_txlock=immediate&_pragma=busy_timeout(30000)&_pragma=journal_mode(truncate)&_pragma=synchronous(full)"
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &Ledger{db}, nil
}

// Close lets go of the database.
func (l *Ledger) Close() error {
	if l == nil {
		return nil
	}
	return l.db.Close()
}

// Tx is one transaction; its methods are the only way to the records.
type Tx struct {
	tx  *sql.Tx
	ctx context.Context
}

// View runs fn on a consistent state of the records; fn can't change them.
func (l *Ledger) View(ctx context.Context, fn func(*Tx) error) error {
	if l == nil {
		return ErrAway
	}
	tx, err := l.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return explain(err)
	}
	defer tx.Rollback()
	err = fn(&Tx{tx, ctx})
	_ = tx.Rollback() // nothing was changed, and the connection is the only one
	return l.explainHere(ctx, err)
}

// Update runs fn and keeps its changes, all or none: an error from fn, or a
// panic, undoes them.
func (l *Ledger) Update(ctx context.Context, fn func(*Tx) error) error {
	return l.explainHere(ctx, l.update(ctx, fn))
}

func (l *Ledger) update(ctx context.Context, fn func(*Tx) error) error {
	if l == nil {
		return ErrAway
	}
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := fn(&Tx{tx, ctx}); err != nil {
		return err
	}
	return tx.Commit()
}

// conditions are what the engine says of the machine, with our errors for it.
var conditions = []struct {
	says string
	is   error
}{{"SQLITE_BUSY", ErrBusy}, {"SQLITE_FULL", ErrFull}, {"disk is full", ErrFull}, {"disk I/O error", ErrFull}, {"readonly database", ErrReadOnly}, {"unable to open database file", ErrReadOnly},
	{"malformed", ErrDamaged}, {"not a database", ErrDamaged}, {"sql: Scan error", ErrDamaged}, {"no such table", ErrDamaged}, {"no such column", ErrDamaged}}

func explain(err error) error {
	for _, c := range conditions {
		if err != nil && strings.Contains(err.Error(), c.says) {
			return fmt.Errorf("%w: %w", c.is, err)
		}
	}
	return err
}

// one maps a missing row to ErrNotFound.
func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// rows collects what scan reads from each row of a query.
func rows[T any](tx *Tx, scan func(func(...any) error) (T, error), query string, args ...any) ([]T, error) {
	rs, err := tx.tx.QueryContext(tx.ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []T
	for rs.Next() {
		v, err := scan(rs.Scan)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rs.Err()
}
