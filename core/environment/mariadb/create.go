package mariadb

import (
	"context"
	"strings"

	"github.com/go-sql-driver/mysql"

	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	catalog "oakenchest/core/schema/mariadb"
)

// onMariaDB runs a statement on the server of a target, in no database.
func on(ctx context.Context, config *mysql.Config, sql string) error {
	bare := config.Clone()
	bare.DBName = ""
	db, err := connect(ctx, bare)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, sql)
	return catalog.EngineError(err)
}

func create(ctx context.Context, target string) (func(context.Context) error, error) {
	config, err := configOf(target)
	if err != nil {
		return nil, err
	}
	name := config.DBName
	quoted := "`" + strings.ReplaceAll(name, "`", "``") + "`"
	run := func(ctx context.Context, sql string) error { return on(ctx, config, sql) }
	switch db, err := catalog.Open(ctx, config.Clone()); {
	case err == nil:
		return environment.Nothing, db.Close()
	default:
		if err := run(ctx, "create database "+quoted); err != nil {
			return nil, database.Uncreated(name, err)
		}
	}
	return func(ctx context.Context) error { return run(ctx, "drop database "+quoted) }, nil
}
