package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

// Open connects to a database. Only one connection is used at a time.
func Open(ctx context.Context, config *mysql.Config) (*sql.DB, error) {
	config.MultiStatements = true
	config.InterpolateParams = true
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	if err := db.PingContext(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return db, nil
}

// ScratchError says that no scratch database could be made.
type ScratchError struct{ Err error }

// Error gives the engine's reason.
func (e *ScratchError) Error() string { return "no scratch database can be made: " + e.Err.Error() }

// Unwrap gives the cause.
func (e *ScratchError) Unwrap() error { return e.Err }

// Scratch is an empty database of the same server in which declared SQL is tried.
type Scratch struct {
	DB   *sql.DB
	name string
}

// NewScratch makes a scratch database on a server, with the character set and
// collation of the database that config names. Close drops it.
func NewScratch(ctx context.Context, config *mysql.Config) (*Scratch, error) {
	s := &Scratch{name: declared.ScratchName(time.Now())}
	admin, err := Open(ctx, config.Clone())
	if err != nil {
		return nil, &ScratchError{EngineError(err)}
	}
	defer admin.Close()
	if names, err := column(ctx, admin,
		"select schema_name from information_schema.schemata where schema_name like 'oaken\\\\_scratch\\\\_%'"); err == nil {
		for _, name := range names { // what killed processes left
			used, err := column(ctx, admin, "select id from information_schema.processlist where db = "+literal(name))
			if err == nil && len(used) == 0 && declared.Abandoned(name, time.Now()) {
				_, _ = admin.ExecContext(ctx, "drop database if exists "+ident(name))
			}
		}
	}
	var charset, collation string
	err = admin.QueryRowContext(ctx, "select @@character_set_database, @@collation_database").Scan(&charset, &collation)
	if err == nil {
		_, err = admin.ExecContext(ctx, "create database "+s.name+" character set "+charset+" collate "+collation)
	}
	if err != nil {
		return nil, &ScratchError{EngineError(err)}
	}
	own := config.Clone()
	own.DBName = s.name
	if s.DB, err = Open(ctx, own); err != nil {
		return nil, &ScratchError{EngineError(err)}
	}
	return s, nil
}

// Close drops the database.
func (s *Scratch) Close(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, "drop database if exists "+s.name)
	return errors.Join(err, s.DB.Close())
}

// EngineError gives the engine's own message.
func EngineError(err error) error {
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		return err
	}
	return &engineError{my.Message, err}
}

type engineError struct {
	text string
	err  error
}

func (e *engineError) Error() string { return "MariaDB says: " + e.text }
func (e *engineError) Unwrap() error { return e.err }

// piece is a statement that makes a part of a schema.
type piece struct {
	e    *element.Element // the object
	id   string
	sql  string
	mode string
	// session is the character set and collation that it is made in
	session string
	strict  bool // that it is there already is an error
}

// creation gives the statements that make everything in a tree, from nothing: tables
// without their foreign keys first, then those; views after the views in them.
func creation(root *element.Element) []piece {
	var out []piece
	own := func(typ string) {
		for _, e := range kids(root, typ) {
			out = append(out, piece{e: e, id: ID(e), sql: createSQL(e, ""), mode: textOf(e, "sql mode"), session: textOf(e, "session")})
		}
	}
	own("sequence")
	for _, e := range kids(root, "table") {
		out = append(out, piece{e: e, id: ID(e), sql: tableSQL(e, true)})
	}
	for _, e := range kids(root, "table") {
		for _, c := range kids(e, "constraint") {
			if foreign(c) {
				out = append(out, piece{e: e, id: sub(ID(e), c), sql: "alter table " + ident(e.Key) + " add " + constraintSQL(c)})
			}
		}
	}
	own("function")
	own("procedure")
	for _, e := range orderedViews(kids(root, "view")) {
		out = append(out, piece{e: e, id: ID(e), sql: createSQL(e, ""), session: textOf(e, "session")})
	}
	for _, e := range kids(root, "table") {
		for _, k := range kids(e, "trigger") {
			out = append(out, piece{e: e, id: sub(ID(e), k), sql: triggerSQL(e.Key, k), mode: textOf(k, "sql mode"),
				session: textOf(k, "session")})
		}
	}
	own("event")
	return out
}

// orderedViews puts views after those that their queries name.
func orderedViews(views []*element.Element) []*element.Element {
	byName := map[string]*element.Element{}
	for _, v := range views {
		byName[v.Key] = v
	}
	var out []*element.Element
	seen := map[*element.Element]bool{}
	var visit func(v *element.Element)
	visit = func(v *element.Element) {
		if seen[v] {
			return
		}
		seen[v] = true
		ts, _ := Dialect.Scan(textOf(v, "definition"))
		for _, t := range ts {
			if t.Sort == sqltext.Word || t.Sort == sqltext.Quoted {
				if other := byName[Dialect.NameOf(t)]; other != nil {
					visit(other)
				}
			}
		}
		out = append(out, v)
	}
	for _, v := range views {
		visit(v)
	}
	return out
}

// session are the settings in which things are made.
const session = "set foreign_key_checks = 0, sql_mode = '" + usualMode +
	"', character_set_client = utf8mb4, collation_connection = utf8mb4_general_ci, time_zone = 'SYSTEM'"

// Load makes what is declared in an empty database, and reads it back. The engine's
// refusal comes with file and line.
func Load(ctx context.Context, db *sql.DB, d *Declared) (*Catalog, error) {
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, session); err != nil {
		return nil, err
	}
	list := creation(d.Root)
	for len(list) > 0 {
		var again []piece
		var first error
		for part := range slices.Chunk(list, together) {
			if runTogether(ctx, conn, part) == nil {
				continue
			}
			for _, p := range part {
				if err := makePiece(ctx, conn, p); err != nil {
					again = append(again, p)
					if first == nil {
						first = refusal(d, p, err)
					}
				}
			}
		}
		if len(again) == len(list) || first != nil && len(again) > 0 && !waits(again) {
			return nil, first
		}
		list = again
	}
	return Read(ctx, conn)
}

// waits says that what failed may succeed when the others are there.
func waits(list []piece) bool {
	return !slices.ContainsFunc(list, func(p piece) bool { return p.e.Type != "view" && p.e.Type != "table" })
}

// runTogether runs plain statements in one round trip; those that were done before an
// error are there, which makePiece takes as done.
func runTogether(ctx context.Context, q Querier, list []piece) error {
	var b strings.Builder
	for _, p := range list {
		if p.mode != "" || p.session != "" || p.e.Type == "function" || p.e.Type == "procedure" || p.e.Type == "event" ||
			strings.HasPrefix(p.sql, "create trigger") || strings.HasPrefix(p.sql, "create definer") {
			return errors.New("one by one")
		}
		b.WriteString(p.sql + ";\n")
	}
	_, err := q.ExecContext(ctx, b.String())
	return err
}

// makePiece runs one statement in its mode and session.
func makePiece(ctx context.Context, q Querier, p piece) error {
	if p.mode != "" {
		if _, err := q.ExecContext(ctx, "set sql_mode = "+literal(p.mode)); err != nil {
			return err
		}
		defer func() { _, _ = q.ExecContext(ctx, "set sql_mode = "+literal(usualMode)) }()
	}
	sql := p.sql
	if p.session != "" {
		var err error
		if sql, err = inCharset(p.session, sql); err != nil {
			return err
		}
		if _, err := q.ExecContext(ctx, SetSession(p.session)); err != nil {
			return err
		}
		defer func() { _, _ = q.ExecContext(context.WithoutCancel(ctx), SetSession("")) }()
	}
	_, err := q.ExecContext(ctx, sql)
	var my *mysql.MySQLError
	if !p.strict && errors.As(err, &my) && (my.Number == 1050 || my.Number == 1826 || my.Number == 1005 &&
		strings.Contains(my.Message, "121")) {
		return nil // it is there from the round trip that stopped at another one
	}
	return err
}

func refusal(d *Declared, p piece, err error) error {
	err = EngineError(err)
	if places := d.Places[ID(p.e)]; len(places) > 0 {
		return &declared.FileError{File: places[0].File, Line: places[0].Line, Err: err}
	}
	return fmt.Errorf("%s: %w", p.id, err)
}
