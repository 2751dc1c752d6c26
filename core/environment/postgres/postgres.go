package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
	catalog "oakenchest/core/schema/postgres"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/step"
)

// postgresDriver reaches a PostgreSQL database.
type driver struct {
	conn     *pgx.Conn
	settings environment.Settings
	name     string // of the database, for people
	cache    database.Cache
	base     context.Context // of who opened it, which does not end
}

var _ environment.Driver = (*driver)(nil)

func open(ctx context.Context, h environment.Host, rest string, s environment.Settings) (environment.Driver, error) {
	conn, err := connect(ctx, "postgres:"+rest)
	if err != nil {
		return nil, err
	}
	return &driver{conn, s, conn.Config().Database, database.Cache{Folder: h.Cache}, context.WithoutCancel(ctx)}, nil
}

func connect(ctx context.Context, target string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(target)
	if err != nil {
		return nil, fault.New(fault.Usage, "It is written postgres://USER@HOST:PORT/DATABASE.",
			"The target can't be read as the address of a PostgreSQL database.")
	}
	config.RuntimeParams["application_name"] = "oaken"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err == nil {
		return conn, nil
	}
	where := fmt.Sprintf("the database %s on %s:%d", config.Database, config.Host, config.Port)
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "28P01", "28000":
			return nil, fault.New(fault.Unreachable,
				"Check the user and the password; a password is given by a variable: ${NAME} in the target, or PGPASSWORD.",
				"%s does not let %s in: %s.", database.Upper(where), config.User, pg.Message)
		case "3D000":
			return nil, fault.New(fault.Unreachable, "Correct the target in oaken.toml, or make the database.",
				"There is no database %s on %s:%d.", config.Database, config.Host, config.Port)
		}
		return nil, fault.New(fault.Unreachable, "Ask who looks after the server.", "%s can't be used: %s.",
			database.Upper(where), pg.Message)
	}
	reason := err.Error()
	if i := strings.LastIndex(reason, ": "); i >= 0 {
		reason = reason[i+2:]
	}
	return nil, fault.New(fault.Unreachable, "Check that the server runs and that its address in the target is right.",
		"%s can't be reached: %s.", database.Upper(where), reason)
}

func (d *driver) live(ctx context.Context) (*catalog.Catalog, error) {
	c, err := catalog.Read(ctx, d.conn)
	if err != nil {
		return nil, fault.New(fault.Unreachable, "Check the connection and the rights of the user.", "The database %s can't be read: %w.",
			d.name, catalog.EngineError(err))
	}
	return c, nil
}

// Capture reads the schema.
func (d *driver) Capture(ctx context.Context, have environment.Files) (*environment.Captured, error) {
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	told, err := catalog.Parse(have)
	tree := d.settings.Scope.Apply(live.Root)
	if err == nil {
		tree = d.settings.Scope.Align(tree, told.Root)
	}
	c := &environment.Captured{Tree: tree, Untracked: live.Untracked}
	switch {
	case err != nil:
		c.Edits = catalog.Anew(have, tree)
	case len(told.Places) > 0 && element.Compare(told.Root, tree) != nil:
		want := d.settings.Scope.WithUntracked(tree, told.Root) // files of what is not tracked stay
		if loaded, err := d.load(ctx, have, told); err == nil {
			told.Root = d.settings.Scope.WithUntracked(d.settings.Scope.Apply(loaded.Root), loaded.Root)
			want = d.settings.Scope.WithUntracked(d.settings.Scope.Align(tree, told.Root), loaded.Root)
		}
		c.Edits, c.Renamed = catalog.Update(have, told, want), environment.Renames(told.Root, want, true)
	case len(told.Places) == 0:
		c.Edits = catalog.Update(have, told, tree)
	}
	t, err := d.tracked(ctx)
	if err != nil {
		return nil, err
	}
	if err := t.AddTo(ctx, c, have, catalog.Tables(tree)); err != nil {
		return nil, err
	}
	c.Files = environment.With(have, c.Edits)
	return c, nil
}

// tracked gives what deals with rows, over the driver's connection.
func (d *driver) tracked(ctx context.Context) (database.Tracked, error) {
	conn, err := catalog.RowsConn(ctx, d.conn)
	return database.Tracked{Conn: conn, Scope: d.settings.Scope}, err
}

// Rows gives the files of the rows of tables.
func (d *driver) Rows(ctx context.Context, names []string) (environment.Files, error) {
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	t, err := d.tracked(ctx)
	if err != nil {
		return nil, err
	}
	return t.Start(ctx, catalog.Tables(d.settings.Scope.Apply(live.Root)), names)
}

// load lets the engine judge what is declared, in a scratch database, unless it has
// judged the same files before.
func (d *driver) load(ctx context.Context, files environment.Files, told *catalog.Declared) (*catalog.Catalog, error) {
	key := d.cache.Key("postgres "+d.conn.PgConn().ParameterStatus("server_version"), database.SchemaFiles(files))
	if data, ok := d.cache.Get(key); ok {
		if c, ok := catalog.Kept(data); ok {
			return c, nil
		}
	}
	c, err := d.try(ctx, told)
	if err == nil {
		if data, err := c.Keep(); err == nil {
			d.cache.Put(key, data)
		}
	}
	return c, err
}

func (d *driver) try(ctx context.Context, told *catalog.Declared) (*catalog.Catalog, error) {
	admin := d.conn
	if d.settings.Scratch != "" {
		var err error
		if admin, err = connect(ctx, d.settings.Scratch); err != nil {
			return nil, err
		}
		defer admin.Close(context.WithoutCancel(ctx))
	}
	s, err := catalog.NewScratch(ctx, admin)
	if err != nil {
		return nil, noScratch(err)
	}
	c, err := catalog.Load(ctx, s.Conn, told)
	return c, errors.Join(err, s.Close(context.WithoutCancel(ctx)))
}

func noScratch(err error) error {
	return fault.New(fault.Refused,
		"Give the user the right to make databases (alter role NAME createdb), or name another server of the same version in oaken.toml: "+
			"scratch = \"postgres://...\".",
		"What is declared can't be tried: %w.", err)
}

// Plan computes the statements from the live schema to the declared one.
func (d *driver) Plan(ctx context.Context, files environment.Files, past *environment.Past) (*environment.Plan, error) {
	told, err := catalog.Parse(files)
	if err != nil {
		return nil, database.Undeclarable(err)
	}
	live, err := d.live(ctx)
	if err != nil {
		return nil, err
	}
	if held, err := catalog.Parse(past.Holds()); err == nil {
		told.Follow(held)
	}
	there := catalog.Tables(live.Root)
	data, bare, err := d.running(ctx).Plan(files, past, catalog.Empty(live.Root), there)
	if err != nil {
		return nil, err
	}
	steps, want, err := d.steps(ctx, live, files, told, data.Due())
	if err != nil {
		return nil, err
	}
	target, wanted := want, catalog.Tables(told.Root)
	if want != nil {
		wanted = catalog.Tables(want)
	}
	t, err := d.tracked(ctx)
	if err != nil {
		return nil, err
	}
	changes, err := t.Plan(ctx, database.RowsWanted{Declared: files, Lost: past.Restores(), Tables: wanted, Live: there, Schema: steps,
		Formerly: func(t rows.Table) string { return told.Formerly["table "+t.SQL] }})
	if err != nil {
		return nil, err
	}
	p := &environment.Plan{Opening: []string{"set check_function_bodies = off", "set search_path = ''",
		fmt.Sprintf("set lock_timeout = %d", d.settings.LockWait.Milliseconds())}, Begin: []string{"begin"}, Closing: []string{"commit"}}
	database.WithSteps(p, catalog.Journal, steps, changes, data, bare)
	if speaks(p); !p.Whole() { // psql goes on after an error, unless it is told not to
		p.Opening = append([]string{`\set ON_ERROR_STOP on`}, p.Opening...)
	}
	p.Guard = func(ctx context.Context) ([]string, error) {
		guard, err := catalog.StartsFrom(ctx, d.conn)
		return []string{guard}, err
	}
	p.Recorded = func(ctx context.Context) error { return catalog.ClearJournal(ctx, d.conn) }
	p.Before = func(ctx context.Context) (environment.Files, error) {
		kept, err := t.Before(ctx, files, there)
		return environment.With(kept, catalog.Anew(nil, d.settings.Scope.Apply(live.Root))), err
	}
	p.Apply = func(ctx context.Context, done func(int)) error {
		prove := func(ctx context.Context) error { return t.Prove(ctx, files, wanted) }
		return d.apply(ctx, live, target, p.Carried(), prove, done)
	}
	if p.Keeps() {
		p.Save = func(ctx context.Context, folder string) error { return t.Save(ctx, p.Steps, there, nil, folder) }
	}
	return p, nil
}

// running says how this engine runs data steps.
func (d *driver) running(ctx context.Context) database.Running {
	return database.Running{Split: catalog.Split, Journal: catalog.Journal, Usual: "public", Done: func() ([]datastep.Entry, error) {
		done, err := catalog.JournalOf(ctx, d.conn)
		return done, catalog.EngineError(err)
	}}
}

// steps computes the plan. Into a database without anything the declared statements go
// as they are, and the engine judges them there.
func (d *driver) steps(ctx context.Context, live *catalog.Catalog, files environment.Files, told *catalog.Declared,
	due step.Due) ([]catalog.Step, *element.Element, error) {
	if catalog.Empty(live.Root) {
		return catalog.Build(told, live.Root), nil, nil
	}
	loaded, err := d.load(ctx, files, told)
	if err != nil {
		return nil, nil, database.Undeclarable(err)
	}
	var second *catalog.Scratch
	renamed, err := catalog.Renames(ctx, live, loaded.Root, told.Formerly, func() (*pgx.Conn, error) {
		if second, err = catalog.NewScratch(ctx, d.conn); err != nil {
			return nil, noScratch(err)
		}
		return second.Conn, nil
	})
	if second != nil {
		defer second.Close(context.WithoutCancel(ctx))
	}
	if err != nil {
		return nil, nil, database.Undeclarable(err)
	}
	if renamed != nil {
		live = renamed.Live
	}
	want := catalog.Wanted{Root: d.settings.Scope.Overlay(loaded.Root, live.Root), Columns: loaded.Columns, Fill: d.settings.Fill,
		Renamed: renamed, Online: d.settings.Online, Due: due, Counting: d.settings.Counter()}
	steps, err := catalog.Plan(ctx, d.conn, live, want)
	if r, ok := database.IsRowsError(err); ok {
		return nil, nil, database.InTheWay(r)
	}
	var family *catalog.FamilyError
	if errors.As(err, &family) {
		return nil, nil, fault.New(fault.Refused, "Declare that column in the table's own file too; nothing was changed.",
			"What is declared can't be reached: %w.", err)
	}
	if err != nil {
		return nil, nil, fault.New(fault.Refused, "Check the rights of the user in the database; nothing was changed.",
			"What has to be done can't be worked out: %w.", err)
	}
	return steps, want.Root, nil
}

func (d *driver) apply(ctx context.Context, planned *catalog.Catalog, want *element.Element, steps []environment.Step,
	prove func(context.Context) error, done func(int)) error {
	free, err := d.alone(ctx)
	if err != nil {
		return err
	}
	defer free()
	now, err := d.live(ctx)
	if err != nil {
		return err
	}
	if element.Compare(planned.Root, now.Root) != nil {
		return environment.ChangedSince("database")
	}
	err = catalog.Apply(ctx, d.conn, want, steps, catalog.ApplyOptions{LockWait: d.settings.LockWait, Scope: d.settings.Scope, Done: done,
		More: func(ctx context.Context, conn *pgx.Conn) error {
			if _, err := conn.Exec(ctx, "set constraints all immediate"); err != nil {
				return catalog.EngineError(err)
			}
			return prove(ctx)
		}})
	return d.failure(err)
}

// changeKey is the number of the advisory lock on changing a database.
const changeKey = 0x6f616b656e // "oaken"

// alone takes the session's lock on changing the database, which goes with the session: one that stands still
// keeps it.
func (d *driver) alone(ctx context.Context) (free func(), err error) {
	wait, cancel := context.WithTimeout(ctx, max(d.settings.LockWait, time.Second))
	defer cancel()
	for {
		var got bool
		if err := d.conn.QueryRow(ctx, "select pg_catalog.pg_try_advisory_lock($1)", int64(changeKey)).Scan(&got); err != nil {
			return nil, catalog.EngineError(err)
		}
		if got {
			return func() {
				// Else it goes with the session.
				_, _ = d.conn.Exec(context.WithoutCancel(ctx), "select pg_catalog.pg_advisory_unlock($1)", int64(changeKey))
			}, nil
		}
		select {
		case <-wait.Done():
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, database.ChangedNow()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// failure says what a failed deployment left.
func (d *driver) failure(err error) error {
	if err == nil {
		return nil
	}
	var half *catalog.HalfwayError
	var after *catalog.AfterError
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &after):
		return fault.New(fault.Failed,
			"All steps before it are done and kept. Correct what is in the way and deploy again; it goes on from there.",
			"The deployment failed at its last part: %w.", err)
	case errors.As(err, &half):
		return fault.New(fault.Failed, fmt.Sprintf("Deploy again to finish. Done already and kept: %s; all else is as it was.",
			half.Done[0].What), "The deployment failed: %w.", err)
	case errors.As(err, &pg) && pg.Code == "55P03":
		return fault.New(fault.Refused,
			"Everything was undone. Try again when the database is less busy, or raise lock-wait in oaken.toml.",
			"Somebody else holds a lock that the deployment needs: %w.", err)
	case errors.As(err, &pg) && pg.Code == "53200":
		return fault.New(fault.Failed,
			"Everything was undone. Raise max_locks_per_transaction on the server, so that one transaction can hold so many objects, and "+
				"deploy again.", "The deployment failed: %w.", err)
	case d.conn.IsClosed():
		return fault.New(fault.Unreachable, "The server undoes what was not committed. Deploy again: it shows what is left to do.",
			"The connection was cut in the middle of the deployment: %w.", err)
	}
	return fault.New(fault.Failed, "Everything was undone: the database is as it was. Correct the declared files and deploy again.",
		"The deployment failed: %w.", err)
}

// Close lets go of the database.
func (d *driver) Close() error {
	ctx, cancel := context.WithTimeout(d.base, 10*time.Second) // a server that is gone answers nothing
	defer cancel()
	return d.conn.Close(ctx)
}
