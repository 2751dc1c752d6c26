// Package postgres reaches PostgreSQL databases.
package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/environment"
	catalog "oakenchest/core/schema/postgres"
	"oakenchest/core/schema/rows"
)

// Sort is what there is to know of such targets.
var Sort = environment.Sort{
	Scheme: "postgres", About: "a PostgreSQL database: postgres://USER@HOST:PORT/DATABASE", Kind: "postgres-schema",
	Server: true, Port: "5432",
	Open: open, Create: func(ctx context.Context, _ environment.Host, rest string) (func(context.Context) error, error) {
		return create(ctx, "postgres:"+rest)
	},
	Drop: drop, Tables: tables, Copy: copyDatabase, Speaks: speaks, Concerns: changed,
}

func drop(ctx context.Context, _ environment.Host, rest string) error {
	config, err := pgx.ParseConfig("postgres:" + rest)
	if err != nil {
		return err
	}
	return on(ctx, "postgres:"+rest, "drop database "+pgx.Identifier{config.Database}.Sanitize())
}

func tables(_ context.Context, files environment.Files) ([]rows.Table, error) {
	d, err := catalog.Parse(files)
	if err != nil {
		return nil, err
	}
	return catalog.Tables(d.Root), nil
}

// speaks gives a plan what its scripts are written with.
func speaks(p *environment.Plan) { p.Journal, p.Ending = catalog.Journal, catalog.Ended }
