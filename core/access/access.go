// Package access knows who may use a server: people and their secrets, sessions and tokens, invitations, groups, and
// which projects there are. It keeps them in a database of its own beside the projects; secrets and tokens are in it as
// digests alone.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"
	_ "modernc.org/sqlite" // the embedded engine

	"oakenchest/core/fault"
)

// version is the format of the database.
const version = 2

var schema = []string{
	"create table format (version integer not null)",
	`create table people (id text primary key, name text not null, fold text not null unique, secret text not null,
		administrator integer not null, since integer not null, ended integer not null, ended_by text not null)`,
	`create table sessions (digest text primary key, person text not null, purpose text not null, machine text not null,
		reads_only integer not null, project text not null, made integer not null, ends integer not null, used integer not null,
		number integer not null unique)`,
	"create index sessions_person on sessions (person)",
	`create table invitations (digest text primary key, name text not null, administrator integer not null, made integer not null,
		ends integer not null, made_by text not null)`,
	"create table projects (name text primary key, id text not null unique, made integer not null, made_by text not null)",
	"create table groups (name text primary key, made integer not null, made_by text not null)",
	"create table members (name text not null, person text not null, primary key (name, person)) without rowid",
	`create table events (id integer primary key, time integer not null, what text not null, person text not null,
		subject text not null, origin text not null)`,
}

// since2 came with format 2: what projects may run and reach at the server, and the secrets of their targets.
var since2 = []string{
	`create table agreed (project text not null, wish text not null, says text not null, made integer not null, made_by text not null,
		primary key (project, wish)) without rowid`,
	`create table keys (project text not null, target text not null, name text not null, value text not null, made integer not null,
		made_by text not null, primary key (project, target, name)) without rowid`,
}

// Book is the database. Goroutines may share it.
type Book struct {
	db  *sql.DB
	now func() time.Time
	// guesses slows down who guesses.
	guesses guesses
	hashing chan struct{}
	known   known
}

// Open opens the database in a file, which is made when it is missing.
func Open(ctx context.Context, file string, now func() time.Time) (*Book, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	u := url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}
	u.RawQuery = "_txlock=immediate&_pragma=busy_timeout(30000)&_pragma=journal_mode(wal)&_pragma=synchronous(full)&_pragma=secure_delete(on)"
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(4)
	b := &Book{db: db, now: now, hashing: make(chan struct{}, hashesAtOnce)}
	if err := b.begin(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("%s can't be read as the server's book of people: %w", file, err), db.Close())
	}
	return b, nil
}

func (b *Book) begin(ctx context.Context) error {
	return b.update(ctx, func(tx *sql.Tx) error {
		var tables, is int
		if err := tx.QueryRowContext(ctx, "select count(*) from sqlite_master").Scan(&tables); err != nil {
			return err
		}
		if tables > 0 {
			err := tx.QueryRowContext(ctx, "select version from format").Scan(&is)
			if err == nil && is > version {
				err = fmt.Errorf("it has format %d, this program knows %d", is, version)
			}
			if err != nil || is == version {
				return err
			}
			return each(ctx, tx, append(since2[:len(since2):len(since2)], fmt.Sprintf("update format set version = %d", version)))
		}
		return each(ctx, tx, append(append(schema[:len(schema):len(schema)], since2...),
			fmt.Sprintf("insert into format (version) values (%d)", version)))
	})
}

// each carries out statements.
func each(ctx context.Context, tx *sql.Tx, statements []string) error {
	for _, s := range statements {
		if _, err := tx.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// Close lets go of the database.
func (b *Book) Close() error { return b.db.Close() }

// BackUp writes a copy of the database to a file that must not be there, of one moment. Only those projects stay in it that
// are given: one that was made since has no copy. The secrets of targets are not in it.
func (b *Book) BackUp(ctx context.Context, file string, projects []Project) error {
	if _, err := b.db.ExecContext(ctx, "vacuum into ?", file); err != nil {
		return err
	}
	c, err := Open(ctx, file, b.now)
	if err != nil {
		return err
	}
	err = c.update(ctx, func(tx *sql.Tx) error {
		list := "''"
		for _, p := range projects {
			if err := CheckProject(p.Name); err != nil {
				return err
			}
			list += ", '" + p.Name + "'"
		}
		return each(ctx, tx, []string{"delete from projects where name not in (" + list + ")", "delete from keys"})
	})
	if err == nil { // so that nothing of what was taken out stays in free pages
		_, err = c.db.ExecContext(ctx, "vacuum")
	}
	if err == nil { // one file alone
		_, err = c.db.ExecContext(ctx, "pragma journal_mode = delete")
	}
	return errors.Join(err, c.Close())
}

// SignAllOut ends every session; tokens too, and invitations.
func (b *Book) SignAllOut(ctx context.Context) error {
	return b.update(ctx, func(tx *sql.Tx) error {
		if err := each(ctx, tx, []string{"delete from sessions", "delete from invitations"}); err != nil {
			return err
		}
		return b.note(ctx, tx, "brought back", "", "", "")
	})
}

func (b *Book) update(ctx context.Context, fn func(*sql.Tx) error) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after Commit there is nothing to undo
	if err := fn(tx); err != nil {
		return err
	}
	defer b.known.forget() // after it is done: nobody goes on by what was so before
	return tx.Commit()
}

// Ready reports whether the database answers.
func (b *Book) Ready(ctx context.Context) error { return b.db.PingContext(ctx) }

// fold gives the form of a name in which two that people would take for one are equal.
func fold(name string) string { return strings.ToLower(norm.NFKC.String(name)) }

// CheckName refuses what is no name for a person, a group or a project.
func CheckName(what, name string) error {
	if name == "" || name != strings.TrimSpace(name) || len(name) > 100 ||
		strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) || strings.ContainsRune(`/\:@"'<>|*?`, r) }) {
		return fault.New(fault.Usage, "Give a name such as Imke, of letters, digits, spaces and hyphens.", "%q is no name for a %s.", name,
			what)
	}
	return nil
}

// digestOf is what is kept of a token: its SHA-256. A token is random, so that nothing slower is needed.
func digestOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// newToken makes a token, which begins with what it is for.
func newToken(kind string) string {
	var random [24]byte
	_, _ = rand.Read(random[:]) // never fails
	return "oaken-" + kind + "-" + base64.RawURLEncoding.EncodeToString(random[:])
}

func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func timeOf(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// Event is something that happened to somebody's access.
type Event struct {
	Time time.Time `json:"time"`
	// What is a word: signed-in, guessed, invited, joined, ended, token, revoked, secret, group, project.
	What    string `json:"what"`
	Person  string `json:"person,omitempty"`
	Subject string `json:"subject,omitempty"`
	// From is the address that it came from.
	From string `json:"from,omitempty"`
}

// note records an event, within tx where there is one.
func (b *Book) note(ctx context.Context, tx *sql.Tx, what, person, subject, from string) error {
	const statement = "insert into events (time, what, person, subject, origin) values (?, ?, ?, ?, ?)"
	args := []any{b.now().UnixMilli(), what, person, subject, from}
	if tx == nil {
		_, err := b.db.ExecContext(ctx, statement, args...)
		return err
	}
	_, err := tx.ExecContext(ctx, statement, args...)
	return err
}

// Events gives the newest events, the newest first.
func (b *Book) Events(ctx context.Context, most int) ([]Event, error) {
	rs, err := b.db.QueryContext(ctx, "select time, what, person, subject, origin from events order by id desc limit ?", most)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []Event
	for rs.Next() {
		var e Event
		var ms int64
		if err := rs.Scan(&ms, &e.What, &e.Person, &e.Subject, &e.From); err != nil {
			return nil, err
		}
		e.Time = timeOf(ms)
		out = append(out, e)
	}
	return out, rs.Err()
}
