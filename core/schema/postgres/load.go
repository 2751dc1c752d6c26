package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

// Scratch is an empty database of the same server in which declared SQL is tried.
type Scratch struct {
	admin *pgx.Conn // of the database that it was made from
	name  string
	Conn  *pgx.Conn
}

// ScratchError says that no scratch database could be made.
type ScratchError struct{ Err error }

// Error gives the engine's reason.
func (e *ScratchError) Error() string { return "no scratch database can be made: " + e.Err.Error() }

// Unwrap gives the cause.
func (e *ScratchError) Unwrap() error { return e.Err }

// NewScratch makes a scratch database beside the one that admin is connected to, with
// its encoding and locale. Close drops it.
func NewScratch(ctx context.Context, admin *pgx.Conn) (*Scratch, error) {
	dropAbandoned(ctx, admin)
	s := &Scratch{admin: admin, name: declared.ScratchName(time.Now())}
	var encoding, collate, ctype string
	err := admin.QueryRow(ctx, "select pg_encoding_to_char(encoding), datcollate, datctype from pg_database where datname = "+
		"current_database()").Scan(&encoding, &collate, &ctype)
	if err == nil {
		_, err = admin.Exec(ctx, fmt.Sprintf("create database %s template template0 encoding %s lc_collate %s lc_ctype %s", ident(s.name),
			literal(encoding), literal(collate), literal(ctype)))
	}
	if err != nil {
		return nil, &ScratchError{EngineError(err)}
	}
	config := admin.Config().Copy()
	config.Database = s.name
	if s.Conn, err = pgx.ConnectConfig(ctx, config); err != nil {
		_, undo := admin.Exec(context.WithoutCancel(ctx), "drop database "+ident(s.name))
		return nil, &ScratchError{errors.Join(err, undo)}
	}
	return s, nil
}

// dropAbandoned drops the scratch databases that killed processes left, as far as the
// user may; the engine drops none that somebody is connected to.
func dropAbandoned(ctx context.Context, admin *pgx.Conn) {
	rows, err := admin.Query(ctx, "select datname from pg_database where datname like 'oaken\\_scratch\\_%'")
	if err != nil {
		return
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, name := range names {
		if err == nil && declared.Abandoned(name, time.Now()) {
			_, _ = admin.Exec(ctx, "drop database if exists "+ident(name))
		}
	}
}

// Close drops the database.
func (s *Scratch) Close(ctx context.Context) error {
	err := s.Conn.Close(ctx)
	_, drop := s.admin.Exec(ctx, "drop database if exists "+ident(s.name)+" with (force)")
	return errors.Join(err, drop)
}

// EngineError gives the engine's own message, with what it adds for people.
func EngineError(err error) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return err
	}
	text := pg.Message
	if pg.Detail != "" {
		text += " (" + strings.TrimSuffix(strings.ReplaceAll(pg.Detail, "\n", "; "), ".") + ")"
	}
	return &engineError{text, err}
}

type engineError struct {
	text string
	err  error
}

func (e *engineError) Error() string { return "PostgreSQL says: " + e.text }
func (e *engineError) Unwrap() error { return e.err }

// quiet settings are those of every session that makes things.
const settings = "set check_function_bodies = off; set client_min_messages = error; set xmloption = content; set row_security = off;"

// Load makes what is declared in an empty database, and reads it back. The engine's
// refusal comes with file and line.
func Load(ctx context.Context, conn *pgx.Conn, d *Declared) (*Catalog, error) {
	list := creation(d.Root, nil)
	prelude := settings + "set search_path = public;"
	if schemaOf(d.Root, "public") == nil {
		prelude += "drop schema public;"
	}
	if done, err := runAll(ctx, conn, prelude, list); err != nil {
		if conn.IsClosed() {
			return nil, err
		}
		if done > 0 {
			prelude = settings
		}
		if err := runCarefully(ctx, conn, prelude, list[done:], d); err != nil {
			return nil, err
		}
	}
	return Read(ctx, conn)
}

func schemaOf(root *element.Element, name string) *element.Element {
	return kid(root, "schema", name)
}

// forScratch is a statement as an empty database takes it, where public is there.
func forScratch(s statement) string {
	switch {
	case s.sql == "create schema public":
		return "create schema if not exists public"
	case strings.HasPrefix(s.sql, "refresh materialized view"):
		return "select 1"
	}
	return s.sql
}

// together is how many statements run in one transaction: an engine can hold only so
// many locks.
const together = 2000

// runAll runs everything, so many statements in one transaction and one round trip.
func runAll(ctx context.Context, conn *pgx.Conn, prelude string, list []statement) (done int, err error) {
	for part := range slices.Chunk(list, together) {
		if err := runChunk(ctx, conn, prelude, part); err != nil {
			return done, err
		}
		done += len(part)
		prelude = settings
	}
	return done, nil
}

// runChunk runs statements in one transaction. On an error none of them stays.
func runChunk(ctx context.Context, conn *pgx.Conn, prelude string, list []statement) error {
	var b strings.Builder
	b.WriteString("begin;" + prelude)
	for _, s := range list {
		b.WriteString(forScratch(s))
		b.WriteString(";\n")
	}
	b.WriteString("commit")
	_, err := conn.PgConn().Exec(ctx, b.String()).ReadAll()
	if err != nil && !conn.IsClosed() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "rollback")
	}
	return err
}

// runCarefully runs statements one by one, and those that fail again after the
// others, until no more succeed.
func runCarefully(ctx context.Context, conn *pgx.Conn, prelude string, list []statement, d *Declared) error {
	if _, err := conn.Exec(ctx, "begin;"+prelude, pgx.QueryExecModeSimpleProtocol); err != nil {
		return err
	}
	for len(list) > 0 {
		var again []statement
		var first error
		for _, s := range list {
			if _, err := conn.Exec(ctx, "savepoint oaken", pgx.QueryExecModeSimpleProtocol); err != nil {
				return err
			}
			_, err := conn.Exec(ctx, forScratch(s), pgx.QueryExecModeSimpleProtocol)
			if err == nil {
				continue
			}
			if _, undo := conn.Exec(ctx, "rollback to oaken", pgx.QueryExecModeSimpleProtocol); undo != nil {
				return errors.Join(err, undo)
			}
			again = append(again, s)
			if first == nil {
				first = refusal(d, s, err)
			}
		}
		if len(again) == len(list) {
			_, undo := conn.Exec(ctx, "rollback", pgx.QueryExecModeSimpleProtocol)
			return errors.Join(first, undo)
		}
		list = again
	}
	_, err := conn.Exec(ctx, "commit", pgx.QueryExecModeSimpleProtocol)
	return err
}

// refusal says where the statement that the engine refused was declared.
func refusal(d *Declared, s statement, err error) error {
	err = EngineError(err)
	if p, ok := d.Where(strings.TrimSuffix(s.id, ".shell")); ok {
		return &declared.FileError{File: p.File, Line: p.Line, Err: err}
	}
	return fmt.Errorf("%s: %w", s.id, err)
}
