// Package mariadb reaches MariaDB databases, and MySQL ones by the same protocol.
package mariadb

import (
	"context"
	"strings"

	"oakenchest/core/environment"
	catalog "oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/rows"
)

// Sort is what there is to know of such targets.
var Sort = environment.Sort{
	Scheme: "mysql", About: "a MariaDB or MySQL database: mysql://USER@HOST:PORT/DATABASE", Kind: "mariadb-schema",
	Server: true, Port: "3306",
	Open: open, Create: func(ctx context.Context, _ environment.Host, rest string) (func(context.Context) error, error) {
		return create(ctx, "mysql:"+rest)
	},
	Drop: drop, Tables: tables, Copy: copyDatabase, NothingDone: nothingDone, Speaks: speaks,
}

func drop(ctx context.Context, _ environment.Host, rest string) error {
	config, err := configOf("mysql:" + rest)
	if err != nil {
		return err
	}
	return on(ctx, config, "drop database `"+strings.ReplaceAll(config.DBName, "`", "``")+"`")
}

func tables(_ context.Context, files environment.Files) ([]rows.Table, error) {
	d, err := catalog.Parse(files)
	if err != nil {
		return nil, err
	}
	return catalog.Tables(d.Root), nil
}

// speaks gives a plan what its scripts are written with.
func speaks(p *environment.Plan) {
	p.Journal, p.Ending, p.ModeOf, p.SessionOf = catalog.Journal, catalog.Ended, catalog.SetMode, catalog.SetSession
}
