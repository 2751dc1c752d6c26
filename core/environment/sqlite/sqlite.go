package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/scope"
	catalog "oakenchest/core/schema/sqlite"
	"oakenchest/core/schema/step"
)

// sqliteDriver reaches an SQLite database file. A file that does not exist yet
// is an empty database; it is made by the first deployment.
type driver struct {
	file     string
	scope    scope.Scope
	fill     map[string]string
	counting func(table string, done, of int)
	db       *sql.DB // nil while the file does not exist
}

type table = rows.Table

var _ environment.Driver = (*driver)(nil)

func open(ctx context.Context, h environment.Host, rest string, s environment.Settings) (environment.Driver, error) {
	file := h.File(rest)
	d := &driver{file: file, scope: s.Scope, fill: s.Fill, counting: s.Counting}
	if info, err := os.Stat(file); err == nil && info.IsDir() {
		return nil, fault.New(fault.Unreachable, "Name the database file.", "%s is a folder, not a database.", file)
	} else if errors.Is(err, os.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(file)); err != nil {
			return nil, fault.New(fault.Unreachable, "Make the folder, or correct the target in oaken.toml.",
				"There is no folder %s for the database.", filepath.Dir(file))
		}
		return d, nil
	}
	return d, d.connect(ctx, false)
}

func (d *driver) connect(ctx context.Context, create bool) error {
	db, err := catalog.Open(d.file, create)
	if err == nil {
		var n int
		if err = db.QueryRowContext(ctx, "select count(*) from sqlite_master").Scan(&n); err != nil {
			db.Close()
		}
	}
	if err != nil {
		return fault.New(fault.Unreachable, "Check that it is an SQLite database and that you can read and write it.",
			"The database %s can't be opened: %w.", d.file, err)
	}
	d.db = db
	return nil
}

func (d *driver) live(ctx context.Context) (*element.Element, error) {
	if d.db == nil {
		return &element.Element{Type: "schema"}, nil
	}
	live, err := catalog.Read(ctx, d.db)
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check that nobody else locks it.", "The database %s can't be read: %w.", d.file, err)
	}
	return live, nil
}

// Capture reads the schema.
func (d *driver) Capture(ctx context.Context, have environment.Files) (*environment.Captured, error) {
	if d.db == nil {
		return nil, environment.Missing("Correct the target in oaken.toml, or make the database with oaken deploy. For one that several people "+
			"share, the target is the whole path: others are taken from the folder of each workspace.",
			"There is no database %s.", d.file)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	live = d.scope.Apply(live)
	c := &environment.Captured{Tree: live}
	if told, err := catalog.Load(ctx, have); err == nil {
		all := told.Root
		told.Root = d.scope.WithUntracked(d.scope.Apply(all), all) // files of what is not tracked stay
		want := d.scope.WithUntracked(live, all)
		c.Renamed = environment.Renames(told.Root, want, false) // tools build tables anew, in any order
		c.Edits = told.Update(have, want)
	} else {
		c.Edits = catalog.Anew(have, live)
	}
	if err := d.tracked(d.db).AddTo(ctx, c, have, catalog.Tables(live)); err != nil {
		return nil, err
	}
	c.Files = environment.With(have, c.Edits)
	return c, nil
}

// tracked gives what deals with rows.
func (d *driver) tracked(q catalog.Querier) database.Tracked {
	return database.Tracked{Conn: rows.Over(q), Scope: d.scope}
}

// Rows gives the files of the rows of tables.
func (d *driver) Rows(ctx context.Context, names []string) (environment.Files, error) {
	if d.db == nil {
		return nil, environment.Missing("Correct the target in oaken.toml, or make the database with oaken deploy. For one that several people "+
			"share, the target is the whole path: others are taken from the folder of each workspace.",
			"There is no database %s.", d.file)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	return d.tracked(d.db).Start(ctx, catalog.Tables(d.scope.Apply(live)), names)
}

// Plan computes the statements from the live schema to the declared one.
func (d *driver) Plan(ctx context.Context, declared environment.Files, past *environment.Past) (*environment.Plan, error) {
	want, err := catalog.Load(ctx, declared)
	if err != nil {
		return nil, fault.New(fault.Refused, "Correct that file; nothing was changed.", "The declared database can't be used: %w.", err)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	want.Root = d.scope.Overlay(want.Root, live)
	want.Fill = d.fill
	if held, err := catalog.Load(ctx, past.Holds()); err == nil && len(past.Holds()) > 0 {
		want.Follow(held)
	}
	var q catalog.Querier = d.db
	if d.db == nil {
		scratch, err := catalog.Scratch()
		if err != nil {
			return nil, err
		}
		defer scratch.Close()
		q = scratch
	}
	wanted, there := catalog.Tables(want.Root), catalog.Tables(live)
	data, bare, err := d.running(ctx, q).Plan(declared, past, len(live.Children) == 0, there)
	if err != nil {
		return nil, err
	}
	want.Due, want.Counting = data.Due(), &step.Counting{Progress: d.counting}
	steps, err := catalog.Plan(ctx, q, live, want)
	if r, ok := database.IsRowsError(err); ok {
		return nil, database.InTheWay(r)
	}
	if err != nil {
		return nil, err
	}
	changes, err := d.tracked(q).Plan(ctx, database.RowsWanted{Declared: declared, Lost: past.Restores(), Tables: wanted, Live: there,
		Schema: steps, TypesLate: data.Due().Between,
		Formerly: func(t rows.Table) string { return want.Formerly[strings.ToLower(t.Bare)] }})
	if err != nil {
		return nil, err
	}
	p := &environment.Plan{Opening: []string{".bail on", ".timeout 10000", "pragma foreign_keys = off", "pragma legacy_alter_table = on"},
		Begin: []string{"begin immediate"}, Closing: []string{"commit"}}
	database.WithSteps(p, catalog.Journal, steps, changes, data, bare)
	speaks(p)
	p.Guard = func(ctx context.Context) ([]string, error) {
		if d.db == nil {
			return nil, nil
		}
		return catalog.StartsFrom(ctx, d.db)
	}
	p.Recorded = func(ctx context.Context) error {
		_, err := d.db.ExecContext(ctx, catalog.Journal.Clear[0])
		return err
	}
	p.Before = func(ctx context.Context) (environment.Files, error) {
		if d.db == nil {
			return environment.Files{}, nil
		}
		kept, err := d.tracked(d.db).Before(ctx, declared, there)
		return environment.With(kept, catalog.Anew(nil, d.scope.Apply(live))), err
	}
	p.Apply = func(ctx context.Context, done func(int)) error {
		return d.apply(ctx, live, want.Root, p.Carried(), declared, done)
	}
	if p.Keeps() {
		p.Save = func(ctx context.Context, folder string) error {
			other := func(name string) (rows.Table, error) { return catalog.AnyTable(ctx, d.db, name) }
			return d.tracked(d.db).Save(ctx, p.Steps, there, other, folder)
		}
	}
	return p, nil
}

// running says how this engine runs data steps.
func (d *driver) running(ctx context.Context, q catalog.Querier) database.Running {
	return database.Running{Split: catalog.Split, Journal: catalog.Journal, Usual: "", Done: func() ([]datastep.Entry, error) {
		done, err := catalog.JournalOf(ctx, q)
		return done, err
	}}
}

func (d *driver) apply(ctx context.Context, planned, want *element.Element, steps []environment.Step, files environment.Files,
	done func(int)) error {
	if d.db == nil {
		if err := d.connect(ctx, true); err != nil {
			return err
		}
	}
	var changed error
	err := catalog.Apply(ctx, d.db, want, steps,
		catalog.ApplyOptions{Done: done, First: func(ctx context.Context, q catalog.Querier) error {
			now, err := catalog.Read(ctx, q)
			if err == nil && element.Compare(planned, now) != nil {
				changed = environment.ChangedSince("database")
				err = changed
			}
			return err
		}, More: func(ctx context.Context, q catalog.Querier) error {
			return d.tracked(q).Prove(ctx, files, catalog.Tables(want))
		}})
	if changed != nil {
		return changed
	}
	if err != nil {
		return fault.New(fault.Failed, "Everything was undone: the database is as it was. Correct the declared files and deploy again.",
			"The deployment failed: %w.", err)
	}
	return nil
}

// Close lets go of the database.
func (d *driver) Close() error {
	if d.db == nil {
		return nil
	}
	return d.db.Close()
}
