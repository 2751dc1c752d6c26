package environment

import (
	"context"
	"strings"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/schema/postgres"
)

// Logger is a Driver of a target that can keep a log of who changes what in it.
type Logger interface {
	Driver
	// Prepare sets the log up; done says that it was there already.
	Prepare(ctx context.Context) (done bool, err error)
	// Unprepare takes the log away; done says that there was none.
	Unprepare(ctx context.Context) (done bool, err error)
	// Authors gives the last change of each thing, the newest first, and the login that
	// the driver itself has; nothing when there is no log.
	Authors(ctx context.Context) (list []Author, self string, err error)
}

// Author is who changed a thing last, and when.
type Author struct {
	Login, Program, Command string
	At                      time.Time
	names                   []string
}

// Changed says that the change was one of an object; schema is where that stands.
func (a Author) Changed(schema string, e *element.Element) bool {
	own := postgres.ID(schema, e)
	if i := strings.IndexByte(own, '('); i > 0 && (e.Type == "function" || e.Type == "procedure" || e.Type == "aggregate") {
		own = own[:i]
	}
	for _, n := range a.names {
		if n == own {
			return true
		}
		for _, k := range e.Children {
			if k.Type == "index" && n == postgres.ID(schema, k) {
				return true
			}
		}
	}
	return false
}

// Prepare sets up the log of changes.
func (d *postgresDriver) Prepare(ctx context.Context) (bool, error) {
	there, err := postgres.Prepared(ctx, d.conn)
	if err != nil || there {
		return there, err
	}
	if err := postgres.Prepare(ctx, d.conn); err != nil {
		return false, fault.New(fault.Refused, "Event triggers need a superuser: let one run it. Without the log, locks tell who changes what.", "The log of changes can't be set up in %s: %w.", d.name, err)
	}
	return false, nil
}

// Unprepare takes the log of changes away.
func (d *postgresDriver) Unprepare(ctx context.Context) (bool, error) {
	there, err := postgres.Prepared(ctx, d.conn)
	if err != nil || !there {
		return !there, err
	}
	if err := postgres.Unprepare(ctx, d.conn); err != nil {
		return false, fault.New(fault.Refused, "Let a superuser run it.", "The log of changes can't be taken out of %s: %w.", d.name, err)
	}
	return false, nil
}

// Authors reads the log of changes.
func (d *postgresDriver) Authors(ctx context.Context) ([]Author, string, error) {
	there, err := postgres.Prepared(ctx, d.conn)
	if err != nil || !there {
		return nil, "", err
	}
	list, err := postgres.Log(ctx, d.conn)
	if err != nil {
		return nil, "", err
	}
	var self string
	if err := d.conn.QueryRow(ctx, "select session_user::text").Scan(&self); err != nil {
		return nil, "", postgres.EngineError(err)
	}
	var out []Author
	for i := len(list) - 1; i >= 0; i-- {
		l := list[i]
		out = append(out, Author{l.Login, l.Program, l.Command, l.At, l.Names()})
	}
	return out, self, nil
}
