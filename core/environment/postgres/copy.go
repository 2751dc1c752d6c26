package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	catalog "oakenchest/core/schema/postgres"
)

// copyDatabase makes a database a copy of another: it is loaded into a new one beside it, masked there before anything reads
// it, and takes the other's name.
func copyDatabase(ctx context.Context, _ environment.Host, from, to string, c environment.Copying) (err error) {
	source, target := "postgres:"+from, "postgres:"+to
	config, err := pgx.ParseConfig(target)
	if err != nil {
		return err
	}
	name := config.Database
	fresh := fmt.Sprintf("%.40s_oaken_%s", name, strings.ToLower(rand.Text()[:8]))
	beside, err := inDatabase(target, fresh)
	if err != nil {
		return err
	}
	dump, done, err := environment.PrivateFile()
	if err != nil {
		return err
	}
	defer done()
	if err := dumpInto(ctx, source, dump, c); err != nil {
		return environment.Uncopied(err)
	}
	if err := on(ctx, target, "create database "+ident(fresh)+" template template0"); err != nil {
		return database.Uncreated(fresh, err)
	}
	defer func() {
		drop := on(context.WithoutCancel(ctx), target, "drop database if exists "+ident(fresh))
		err = errors.Join(err, drop)
	}()
	if err := load(ctx, beside, dump, c); err != nil {
		return environment.Uncopied(err)
	}
	if err := save(ctx, target, c.Save); err != nil {
		return environment.Unsaved(err)
	}
	return swap(ctx, target, name, fresh)
}

// inDatabase gives the address of another database on a server.
func inDatabase(target, name string) (string, error) {
	u, err := url.Parse(target)
	if err != nil {
		return "", err
	}
	u.Path = "/" + name
	return u.String(), nil
}

func ident(name string) string { return pgx.Identifier{name}.Sanitize() }

// access gives the address of a database without its password, and that as a variable.
func access(target string) (address string, variables []string) {
	u, err := url.Parse(target)
	if err != nil || u.User == nil {
		return target, nil
	}
	if secret, set := u.User.Password(); set {
		u.User = url.User(u.User.Username())
		variables = []string{"PGPASSWORD=" + secret}
	}
	return u.String(), variables
}

// dumpInto dumps a database, without the rows that are not taken.
func dumpInto(ctx context.Context, source, file string, c environment.Copying) error {
	address, variables := access(source)
	words := []string{"--format=custom", "--file=" + file, "--dbname=" + address}
	conn, err := connect(ctx, source)
	if err != nil {
		return err
	}
	tables, err := tablesOf(ctx, conn)
	if err = errors.Join(err, conn.Close(ctx)); err != nil {
		return err
	}
	for _, t := range tables {
		if !c.Takes(t[0] + "." + t[1]) {
			words = append(words, "--exclude-table-data="+ident(t[0])+"."+ident(t[1]))
		}
	}
	return environment.Tool(ctx, variables, nil, nil, "pg_dump", words...)
}

func tablesOf(ctx context.Context, conn *pgx.Conn) ([][2]string, error) {
	list, err := conn.Query(ctx, `select n.nspname, c.relname from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
		where c.relkind in ('r', 'p', 'm') and n.nspname <> 'information_schema' and n.nspname not like 'pg\_%' order by 1, 2`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(list, func(row pgx.CollectableRow) (t [2]string, err error) { return t, row.Scan(&t[0], &t[1]) })
}

// load loads a dump, and masks values while there are no triggers, indexes and constraints yet.
func load(ctx context.Context, into, dump string, c environment.Copying) error {
	address, variables := access(into)
	restore := func(sections ...string) error {
		words := []string{"--exit-on-error", "--dbname=" + address}
		for _, s := range sections {
			words = append(words, "--section="+s)
		}
		return environment.Tool(ctx, variables, nil, nil, "pg_restore", append(words, dump)...)
	}
	if err := restore("pre-data", "data"); err != nil {
		return err
	}
	if len(c.Masks) > 0 {
		conn, err := connect(ctx, into)
		if err != nil {
			return err
		}
		if err = errors.Join(maskAll(ctx, conn, c), conn.Close(ctx)); err != nil {
			return err
		}
	}
	return restore("post-data")
}

func maskAll(ctx context.Context, conn *pgx.Conn, c environment.Copying) error {
	touched := map[string]bool{}
	for _, m := range c.Masks {
		of, err := mask(ctx, conn, m, c.Salt)
		if err != nil {
			return err
		}
		touched[of] = true
	}
	for of := range touched { // what was there before the masks is no part of the files then
		if _, err := conn.Exec(ctx, "vacuum (full) "+of); err != nil {
			return catalog.EngineError(err)
		}
	}
	return nil
}

// mask masks one column, and gives the table.
func mask(ctx context.Context, conn *pgx.Conn, m manifest.Mask, salt string) (string, error) {
	schema, name, found := strings.Cut(m.Table(), ".")
	if !found {
		schema, name = "public", m.Table()
	}
	var required, text bool
	var longest int
	err := conn.QueryRow(ctx, `select a.attnotnull, t.typcategory = 'S', case when a.atttypmod > 4 then a.atttypmod - 4 else 0 end
		from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
		join pg_catalog.pg_type t on t.oid = a.atttypid
		where n.nspname = $1 and c.relname = $2 and a.attname = $3 and a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p')`,
		schema, name, m.Name()).Scan(&required, &text, &longest)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", environment.NoColumn(m)
	}
	if err != nil {
		return "", catalog.EngineError(err)
	}
	of, column := ident(schema)+"."+ident(name), ident(m.Name())
	var sql string
	var args []any
	switch m.With {
	case manifest.MaskNull:
		if required {
			return "", environment.Unmaskable(m, "it takes no null")
		}
		sql = "update " + of + " set " + column + " = null"
	case manifest.MaskValue:
		sql, args = "update "+of+" set "+column+" = "+quoteText(m.Value)+" where "+column+" is not null", nil
	case manifest.MaskHash:
		if !text {
			return "", environment.Unmaskable(m, "it is no text")
		}
		hash := "encode(sha256(convert_to(" + quoteText(salt) + " || " + column + "::text, 'UTF8')), 'hex')"
		if longest == 0 || longest > 32 {
			longest = 32
		}
		sql = fmt.Sprintf("update %s set %s = left(%s, %d) where %s is not null", of, column, hash, longest, column)
	default:
		// each gets that of the next one in a random order, so that none keeps its own
		sql = "with a as materialized (select ctid as place, tableoid as part, " + column + " as v, row_number() over (order by random()) as n, " +
			"count(*) over () as k from " + of + ") update " + of + " as t set " + column +
			" = b.v from a join a b on b.n = a.n % a.k + 1 where t.ctid = a.place and t.tableoid = a.part"
	}
	_, err = conn.Exec(ctx, sql, args...)
	return of, catalog.EngineError(err)
}

func quoteText(s string) string {
	return "E'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
}

// save dumps all that a database holds into a file.
func save(ctx context.Context, target, file string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	address, variables := access(target)
	if err := environment.Tool(ctx, variables, nil, nil, "pg_dump", "--format=custom", "--file="+file, "--dbname="+address); err != nil {
		return err
	}
	return os.Chmod(file, 0o600)
}

// swap gives a database the name of another, which goes.
func swap(ctx context.Context, target, name, fresh string) error {
	old := fresh + "_old"
	if err := on(ctx, target, "alter database "+ident(name)+" rename to "+ident(old)); err != nil {
		return fault.New(fault.Refused, "Let everybody leave it, and run it again. Nothing was changed.",
			"The database %s can't be replaced: %w.", name, err)
	}
	ctx = context.WithoutCancel(ctx) // from here on it is finished, or taken back
	if err := on(ctx, target, "alter database "+ident(fresh)+" rename to "+ident(name)); err != nil {
		return errors.Join(environment.Uncopied(err), on(ctx, target, "alter database "+ident(old)+" rename to "+ident(name)))
	}
	return on(ctx, target, "drop database "+ident(old))
}
