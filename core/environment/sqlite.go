package environment

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/sqlite"
	"oakenchest/core/schema/step"
)

// sqliteDriver reaches an SQLite database file. A file that does not exist yet
// is an empty database; it is made by the first deployment.
type sqliteDriver struct {
	file     string
	scope    scope.Scope
	fill     map[string]string
	counting func(table string, done, of int)
	db       *sql.DB // nil while the file does not exist
}

var _ Driver = (*sqliteDriver)(nil)

func openSQLite(ctx context.Context, h Host, rest string, s Settings) (Driver, error) {
	file := filepath.FromSlash(rest)
	if !filepath.IsAbs(file) {
		file = filepath.Join(h.Root, file)
	}
	d := &sqliteDriver{file: file, scope: s.Scope, fill: s.Fill, counting: s.Counting}
	if info, err := os.Stat(file); err == nil && info.IsDir() {
		return nil, fault.New(fault.Unreachable, "Name the database file.", "%s is a folder, not a database.", file)
	} else if errors.Is(err, os.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(file)); err != nil {
			return nil, fault.New(fault.Unreachable, "Make the folder, or correct the target in oaken.toml.", "There is no folder %s for the database.", filepath.Dir(file))
		}
		return d, nil
	}
	return d, d.connect(ctx, false)
}

func (d *sqliteDriver) connect(ctx context.Context, create bool) error {
	db, err := sqlite.Open(d.file, create)
	if err == nil {
		var n int
		if err = db.QueryRowContext(ctx, "select count(*) from sqlite_master").Scan(&n); err != nil {
			db.Close()
		}
	}
	if err != nil {
		return fault.New(fault.Unreachable, "Check that it is an SQLite database and that you can read and write it.", "The database %s can't be opened: %w.", d.file, err)
	}
	d.db = db
	return nil
}

func (d *sqliteDriver) live(ctx context.Context) (*element.Element, error) {
	if d.db == nil {
		return &element.Element{Type: "schema"}, nil
	}
	live, err := sqlite.Read(ctx, d.db)
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check that nobody else locks it.", "The database %s can't be read: %w.", d.file, err)
	}
	return live, nil
}

// Capture reads the schema.
func (d *sqliteDriver) Capture(ctx context.Context, have Files) (*Captured, error) {
	if d.db == nil {
		return nil, missing("Correct the target in oaken.toml, or make the database with oaken deploy.", "There is no database %s.", d.file)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	live = d.scope.Apply(live)
	c := &Captured{Tree: live}
	if told, err := sqlite.Load(ctx, have); err == nil {
		all := told.Root
		told.Root = d.scope.WithUntracked(d.scope.Apply(all), all) // files of what is not tracked stay
		want := d.scope.WithUntracked(live, all)
		c.Renamed = renames(told.Root, want, false) // tools build tables anew, in any order
		c.Edits = told.Update(have, want)
	} else {
		c.Edits = sqlite.Anew(have, live)
	}
	if err := c.addRows(ctx, d.tracked(d.db), have, sqlite.Tables(live)); err != nil {
		return nil, err
	}
	c.Files = with(have, c.Edits)
	return c, nil
}

// tracked gives what deals with rows.
func (d *sqliteDriver) tracked(q sqlite.Querier) tracked { return tracked{rows.Over(q), d.scope} }

// Rows gives the files of the rows of tables.
func (d *sqliteDriver) Rows(ctx context.Context, names []string) (Files, error) {
	if d.db == nil {
		return nil, missing("Correct the target in oaken.toml, or make the database with oaken deploy.", "There is no database %s.", d.file)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	return d.tracked(d.db).start(ctx, sqlite.Tables(d.scope.Apply(live)), names)
}

// Plan computes the statements from the live schema to the declared one.
func (d *sqliteDriver) Plan(ctx context.Context, declared Files, past *Past) (*Plan, error) {
	want, err := sqlite.Load(ctx, declared)
	if err != nil {
		return nil, fault.New(fault.Refused, "Correct that file; nothing was changed.", "The declared database can't be used: %w.", err)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	want.Root = d.scope.Overlay(want.Root, live)
	want.Fill = d.fill
	if held, err := sqlite.Load(ctx, past.held()); err == nil && len(past.held()) > 0 {
		want.Follow(held)
	}
	var q sqlite.Querier = d.db
	if d.db == nil {
		scratch, err := sqlite.Scratch()
		if err != nil {
			return nil, err
		}
		defer scratch.Close()
		q = scratch
	}
	wanted, there := sqlite.Tables(want.Root), sqlite.Tables(live)
	data, bare, err := d.running(ctx, q).plan(declared, past, len(live.Children) == 0, there)
	if err != nil {
		return nil, err
	}
	want.Due, want.Counting = data.Due(), &step.Counting{Progress: d.counting}
	steps, err := sqlite.Plan(ctx, q, live, want)
	if r, ok := isRowsError(err); ok {
		return nil, inTheWay(r)
	}
	if err != nil {
		return nil, err
	}
	changes, err := d.tracked(q).plan(ctx, rowsWanted{declared: declared, lost: past.lost(), tables: wanted, live: there, schema: steps, typesLate: data.Due().Between,
		formerly: func(t rows.Table) string { return want.Formerly[strings.ToLower(t.Bare)] }})
	if err != nil {
		return nil, err
	}
	p := &Plan{Opening: []string{".bail on", ".timeout 10000", "pragma foreign_keys = off", "pragma legacy_alter_table = on"}, Begin: []string{"begin immediate"}, Closing: []string{"commit"}}
	p.withSteps(sqlite.Journal, steps, changes, data, bare)
	p.ended = sqlite.Ended
	p.Guard = func(ctx context.Context) ([]string, error) {
		if d.db == nil {
			return nil, nil
		}
		return sqlite.StartsFrom(ctx, d.db)
	}
	p.Recorded = func(ctx context.Context) error {
		_, err := d.db.ExecContext(ctx, sqlite.Journal.Clear[0])
		return err
	}
	p.Before = func(ctx context.Context) (Files, error) {
		if d.db == nil {
			return Files{}, nil
		}
		kept, err := d.tracked(d.db).before(ctx, declared, there)
		return with(kept, sqlite.Anew(nil, d.scope.Apply(live))), err
	}
	p.Apply = func(ctx context.Context, done func(int)) error {
		return d.apply(ctx, live, want.Root, p.run(), declared, done)
	}
	if p.Keeps() {
		p.Save = func(ctx context.Context, folder string) error {
			other := func(name string) (rows.Table, error) { return sqlite.AnyTable(ctx, d.db, name) }
			return d.tracked(d.db).save(ctx, p.Steps, there, other, folder)
		}
	}
	return p, nil
}

// running says how this engine runs data steps.
func (d *sqliteDriver) running(ctx context.Context, q sqlite.Querier) running {
	return running{sqlite.Split, sqlite.Journal, "", func() ([]datastep.Entry, error) {
		done, err := sqlite.JournalOf(ctx, q)
		return done, err
	}}
}

func (d *sqliteDriver) apply(ctx context.Context, planned, want *element.Element, steps []Step, files Files, done func(int)) error {
	if d.db == nil {
		if err := d.connect(ctx, true); err != nil {
			return err
		}
	}
	var changed error
	err := sqlite.Apply(ctx, d.db, want, steps, sqlite.ApplyOptions{Done: done, First: func(ctx context.Context, q sqlite.Querier) error {
		now, err := sqlite.Read(ctx, q)
		if err == nil && element.Compare(planned, now) != nil {
			changed = changedSince("database")
			err = changed
		}
		return err
	}, More: func(ctx context.Context, q sqlite.Querier) error {
		return d.tracked(q).prove(ctx, files, sqlite.Tables(want))
	}})
	if changed != nil {
		return changed
	}
	if err != nil {
		return fault.New(fault.Failed, "Everything was undone: the database is as it was. Correct the declared files and deploy again.", "The deployment failed: %w.", err)
	}
	return nil
}

// Close lets go of the database.
func (d *sqliteDriver) Close() error {
	if d.db == nil {
		return nil
	}
	return d.db.Close()
}
