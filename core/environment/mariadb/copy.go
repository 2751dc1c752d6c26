package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-sql-driver/mysql"

	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	catalog "oakenchest/core/schema/mariadb"
)

// copyDatabase makes a database a copy of another: it is loaded into a new one beside it and masked there; what came of that
// is loaded in place of what the database held. This engine has no other name to give to a database, so that for a moment it
// is empty; where that fails, what was kept is loaded again.
func copyDatabase(ctx context.Context, _ environment.Host, from, to string, c environment.Copying) (err error) {
	source, err := configOf("mysql:" + from)
	if err != nil {
		return err
	}
	target, err := configOf("mysql:" + to)
	if err != nil {
		return err
	}
	fresh := target.Clone()
	fresh.DBName = fmt.Sprintf("%.40s_oaken_%s", target.DBName, strings.ToLower(rand.Text()[:8]))
	dump, done, err := environment.PrivateFile()
	if err != nil {
		return err
	}
	defer done()
	ignored, err := emptyOnes(ctx, source, c)
	if err != nil {
		return environment.Uncopied(err)
	}
	if err := dumpInto(ctx, source, dump, append(ignored, "--skip-triggers")...); err != nil {
		return environment.Uncopied(err)
	}
	if err := on(ctx, fresh, "create database "+tick(fresh.DBName)); err != nil {
		return database.Uncreated(fresh.DBName, err)
	}
	defer func() {
		err = errors.Join(err, on(context.WithoutCancel(ctx), fresh, "drop database if exists "+tick(fresh.DBName)))
	}()
	if err := fill(ctx, source, fresh, dump, c); err != nil {
		return environment.Uncopied(err)
	}
	if err := os.MkdirAll(filepath.Dir(c.Save), 0o700); err != nil {
		return environment.Unsaved(err)
	}
	if err := dumpInto(ctx, target, c.Save); err != nil {
		return environment.Unsaved(err)
	}
	if err := dumpInto(ctx, fresh, dump); err != nil { // as it is to be, masks and all
		return environment.Uncopied(err)
	}
	return replace(context.WithoutCancel(ctx), target, dump, c.Save)
}

func tick(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// access gives the words that tell the engine's programs where a database is, and the password as a variable.
func access(config *mysql.Config) (words, variables []string) {
	words = []string{"--user=" + config.User}
	if config.Net == "unix" {
		words = append(words, "--socket="+config.Addr)
	} else if host, port, err := net.SplitHostPort(config.Addr); err == nil {
		words = append(words, "--protocol=tcp", "--host="+host, "--port="+port)
	}
	return words, []string{"MYSQL_PWD=" + config.Passwd}
}

// dumpInto dumps a database into a file that nobody else reads.
func dumpInto(ctx context.Context, config *mysql.Config, file string, more ...string) error {
	out, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	words, variables := access(config)
	words = append(words, "--single-transaction", "--routines", "--events", "--hex-blob", "--skip-dump-date")
	words = append(append(words, more...), config.DBName)
	return errors.Join(environment.Tool(ctx, variables, nil, out, "mariadb-dump", words...), out.Close())
}

func loadFrom(ctx context.Context, config *mysql.Config, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	words, variables := access(config)
	return environment.Tool(ctx, variables, in, nil, "mariadb", append(words, "--binary-mode", config.DBName)...)
}

// emptyOnes names the tables that come without rows, for the dump.
func emptyOnes(ctx context.Context, config *mysql.Config, c environment.Copying) (words []string, err error) {
	db, err := connect(ctx, config)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	list, err := db.QueryContext(ctx,
		"select table_name from information_schema.tables where table_schema = database() and table_type = 'BASE TABLE'")
	if err != nil {
		return nil, catalog.EngineError(err)
	}
	defer list.Close()
	for list.Next() {
		var name string
		if err := list.Scan(&name); err != nil {
			return nil, err
		}
		if !c.Takes(name) {
			words = append(words, "--ignore-table-data="+config.DBName+"."+name)
		}
	}
	return words, list.Err()
}

// fill loads a dump, masks values while there are no triggers, and then brings the triggers.
func fill(ctx context.Context, source, fresh *mysql.Config, dump string, c environment.Copying) error {
	if err := loadFrom(ctx, fresh, dump); err != nil {
		return err
	}
	db, err := connect(ctx, fresh)
	if err != nil {
		return err
	}
	for _, m := range c.Masks {
		if err := mask(ctx, db, m, c.Salt); err != nil {
			return errors.Join(err, db.Close())
		}
	}
	if err := db.Close(); err != nil {
		return err
	}
	words := []string{"--triggers", "--no-data", "--no-create-info", "--skip-routines", "--skip-events"}
	if err := dumpInto(ctx, source, dump, words...); err != nil {
		return err
	}
	return loadFrom(ctx, fresh, dump)
}

func mask(ctx context.Context, db *sql.DB, m manifest.Mask, salt string) error {
	table := m.Table()
	var nullable, typ string
	var longest sql.NullInt64
	err := db.QueryRowContext(ctx, "select is_nullable, data_type, character_maximum_length from information_schema.columns "+
		"where table_schema = database() and table_name = ? and column_name = ?", table, m.Name()).Scan(&nullable, &typ, &longest)
	if errors.Is(err, sql.ErrNoRows) {
		return environment.NoColumn(m)
	}
	if err != nil {
		return catalog.EngineError(err)
	}
	of, column := tick(table), tick(m.Name())
	run := func(statements ...string) error { return onOne(ctx, db, statements) }
	switch m.With {
	case manifest.MaskNull:
		if nullable != "YES" {
			return environment.Unmaskable(m, "it takes no null")
		}
		return run("update " + of + " set " + column + " = null")
	case manifest.MaskValue:
		return run("update " + of + " set " + column + " = " + quoteText(m.Value) + " where " + column + " is not null")
	case manifest.MaskHash:
		if !longest.Valid || typ == "enum" || typ == "set" {
			return environment.Unmaskable(m, "it is no text")
		}
		return run(fmt.Sprintf("update %s set %s = left(sha2(concat(%s, %s), 256), %d) where %s is not null", of, column,
			quoteText(salt), column,
			min(longest.Int64, 32), column))
	}
	return shuffle(ctx, db, m, of, column)
}

// shuffle gives each row the value of another, by the rows' keys.
func shuffle(ctx context.Context, db *sql.DB, m manifest.Mask, of, column string) error {
	list, err := db.QueryContext(ctx, "select column_name from information_schema.key_column_usage where table_schema = database() "+
		"and table_name = ? and constraint_name = 'PRIMARY' order by ordinal_position", m.Table())
	if err != nil {
		return catalog.EngineError(err)
	}
	var key, same []string
	for list.Next() {
		var name string
		if err := list.Scan(&name); err != nil {
			return errors.Join(err, list.Close())
		}
		key, same = append(key, tick(name)), append(same, "t."+tick(name)+" = k."+tick(name))
	}
	if err := errors.Join(list.Err(), list.Close()); err != nil {
		return err
	}
	if len(key) == 0 {
		return environment.Unmaskable(m, "the table has no primary key")
	}
	return onOne(ctx, db, []string{
		"create temporary table oaken_rows as select " + strings.Join(key, ", ") + ", " + column + " as oaken_v, " +
			"row_number() over (order by rand()) as oaken_n, count(*) over () as oaken_k from " + of,
		"create temporary table oaken_values as select oaken_v, oaken_n from oaken_rows",
		"alter table oaken_values add index (oaken_n)", "alter table oaken_rows add index (oaken_n)",
		// each gets that of the next one in a random order, so that none keeps its own
		"update " + of + " t join oaken_rows k on " + strings.Join(same, " and ") +
			" join oaken_values v on v.oaken_n = k.oaken_n % k.oaken_k + 1 set t." + column + " = v.oaken_v",
		"drop temporary table oaken_rows", "drop temporary table oaken_values",
	})
}

// onOne runs statements on one connection, without looking after foreign keys.
func onOne(ctx context.Context, db *sql.DB, statements []string) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, s := range append([]string{"set foreign_key_checks = 0"}, statements...) {
		if _, err := conn.ExecContext(ctx, s); err != nil {
			return catalog.EngineError(err)
		}
	}
	return nil
}

func quoteText(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
}

// replace makes a database hold what a dump says, or, where that fails, what was kept of it.
func replace(ctx context.Context, target *mysql.Config, dump, kept string) error {
	load := func(file string) error {
		for _, s := range []string{"drop database if exists ", "create database "} {
			if err := on(ctx, target, s+tick(target.DBName)); err != nil {
				return err
			}
		}
		return loadFrom(ctx, target, file)
	}
	err := load(dump)
	if err == nil {
		return nil
	}
	if again := load(kept); again != nil {
		return fault.New(fault.Failed, "Load it by hand: mariadb "+target.DBName+" < "+kept+".",
			"The database %s could not be filled (%w), and what it held could not be brought back: %w.", target.DBName, err, again)
	}
	return environment.Uncopied(err)
}
