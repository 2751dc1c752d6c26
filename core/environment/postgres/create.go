package postgres

import (
	"context"
	"net/url"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	catalog "oakenchest/core/schema/postgres"
)

// onPostgres runs a statement on the server of a target, in another database than it names.
func on(ctx context.Context, target, sql string) error {
	u, err := url.Parse(target)
	if err != nil {
		return err
	}
	u.Path = "/postgres"
	conn, err := connect(ctx, u.String())
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return catalog.EngineError(err)
}

func create(ctx context.Context, target string) (func(context.Context) error, error) {
	config, err := pgx.ParseConfig(target)
	if err != nil {
		return nil, fault.New(fault.Usage, "It is written postgres://USER@HOST:PORT/DATABASE.",
			"The target can't be read as the address of a PostgreSQL database.")
	}
	name := config.Database
	u, err := url.Parse(target)
	if err != nil {
		return nil, err
	}
	u.Path = "/postgres"
	conn, err := connect(ctx, u.String())
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	there := false
	if err := conn.QueryRow(ctx, "select exists (select from pg_catalog.pg_database where datname = $1)", name).Scan(&there); err != nil ||
		there {
		return environment.Nothing, catalog.EngineError(err)
	}
	if _, err := conn.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize()); err != nil {
		return nil, database.Uncreated(name, catalog.EngineError(err))
	}
	return func(ctx context.Context) error {
		return on(ctx, target, "drop database "+pgx.Identifier{name}.Sanitize())
	}, nil
}
