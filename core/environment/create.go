package environment

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"oakenchest/core/fault"
	"oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/postgres"
)

// Create makes the database that a target names, empty. undo removes it again; it is
// given also when the database was there already, and does nothing then.
func Create(ctx context.Context, h Host, target string) (undo func(context.Context) error, err error) {
	s, rest, err := split(target)
	if err != nil {
		return nil, err
	}
	if rest, err = h.expand(target, rest); err != nil {
		return nil, err
	}
	switch s.name {
	case "postgres":
		return createPostgres(ctx, "postgres:"+rest)
	case "mysql":
		return createMariaDB(ctx, "mysql:"+rest)
	}
	return createFile(h, rest)
}

// Drop removes the database that a target names, with all that it holds.
func Drop(ctx context.Context, h Host, target string) error {
	s, rest, err := split(target)
	if err == nil {
		rest, err = h.expand(target, rest)
	}
	if err != nil {
		return err
	}
	switch s.name {
	case "postgres":
		config, err := pgx.ParseConfig("postgres:" + rest)
		if err != nil {
			return err
		}
		return onPostgres(ctx, "postgres:"+rest, "drop database "+pgx.Identifier{config.Database}.Sanitize())
	case "mysql":
		config, err := mariadbConfig("mysql:" + rest)
		if err != nil {
			return err
		}
		return onMariaDB(ctx, config, "drop database `"+strings.ReplaceAll(config.DBName, "`", "``")+"`")
	case "sqlite":
		file := filepath.FromSlash(rest)
		if !filepath.IsAbs(file) {
			file = filepath.Join(h.Root, file)
		}
		return os.Remove(file)
	}
	return fault.New(fault.Refused, "Remove it by hand.", "A plain folder is not removed.")
}

// onPostgres runs a statement on the server of a target, in another database than it names.
func onPostgres(ctx context.Context, target, sql string) error {
	u, err := url.Parse(target)
	if err != nil {
		return err
	}
	u.Path = "/postgres"
	conn, err := connectPostgres(ctx, u.String())
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return postgres.EngineError(err)
}

// onMariaDB runs a statement on the server of a target, in no database.
func onMariaDB(ctx context.Context, config *mysql.Config, sql string) error {
	bare := config.Clone()
	bare.DBName = ""
	db, err := connectMariaDB(ctx, bare)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, sql)
	return mariadb.EngineError(err)
}

func nothing(context.Context) error { return nil }

// createFile is for targets that a deployment makes: only the undoing is needed.
func createFile(h Host, rest string) (func(context.Context) error, error) {
	file := filepath.FromSlash(rest)
	if !filepath.IsAbs(file) {
		file = filepath.Join(h.Root, file)
	}
	if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
		return nothing, nil
	}
	return func(context.Context) error { return os.RemoveAll(file) }, nil
}

func createPostgres(ctx context.Context, target string) (func(context.Context) error, error) {
	config, err := pgx.ParseConfig(target)
	if err != nil {
		return nil, fault.New(fault.Usage, "It is written postgres://USER@HOST:PORT/DATABASE.", "The target can't be read as the address of a PostgreSQL database.")
	}
	name := config.Database
	u, err := url.Parse(target)
	if err != nil {
		return nil, err
	}
	u.Path = "/postgres"
	conn, err := connectPostgres(ctx, u.String())
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	there := false
	if err := conn.QueryRow(ctx, "select exists (select from pg_catalog.pg_database where datname = $1)", name).Scan(&there); err != nil || there {
		return nothing, postgres.EngineError(err)
	}
	if _, err := conn.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize()); err != nil {
		return nil, uncreated(name, postgres.EngineError(err))
	}
	return func(ctx context.Context) error {
		return onPostgres(ctx, target, "drop database "+pgx.Identifier{name}.Sanitize())
	}, nil
}

func createMariaDB(ctx context.Context, target string) (func(context.Context) error, error) {
	config, err := mariadbConfig(target)
	if err != nil {
		return nil, err
	}
	name := config.DBName
	quoted := "`" + strings.ReplaceAll(name, "`", "``") + "`"
	run := func(ctx context.Context, sql string) error { return onMariaDB(ctx, config, sql) }
	switch db, err := mariadb.Open(ctx, config.Clone()); {
	case err == nil:
		return nothing, db.Close()
	default:
		if err := run(ctx, "create database "+quoted); err != nil {
			return nil, uncreated(name, err)
		}
	}
	return func(ctx context.Context) error { return run(ctx, "drop database "+quoted) }, nil
}

func uncreated(name string, err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return fault.New(fault.Refused, "Give the user the right to make databases, or let somebody make it, empty, and try again.", "The database %s can't be made: %w.", fmt.Sprint(name), err)
}
