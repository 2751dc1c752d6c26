package postgres

import (
	"context"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	catalog "oakenchest/core/schema/postgres"
)

// Prepare sets up the log of changes.
func (d *driver) Prepare(ctx context.Context) (bool, error) {
	there, err := catalog.Prepared(ctx, d.conn)
	if err != nil || there {
		return there, err
	}
	if err := catalog.Prepare(ctx, d.conn); err != nil {
		return false, fault.New(fault.Refused,
			"Event triggers need a superuser: let one run it. Without the log, locks tell who changes what.",
			"The log of changes can't be set up in %s: %w.", d.name, err)
	}
	return false, nil
}

// Unprepare takes the log of changes away.
func (d *driver) Unprepare(ctx context.Context) (bool, error) {
	there, err := catalog.Prepared(ctx, d.conn)
	if err != nil || !there {
		return !there, err
	}
	if err := catalog.Unprepare(ctx, d.conn); err != nil {
		return false, fault.New(fault.Refused, "Let a superuser run it.", "The log of changes can't be taken out of %s: %w.", d.name, err)
	}
	return false, nil
}

// Authors reads the log of changes.
func (d *driver) Authors(ctx context.Context) ([]environment.Author, string, error) {
	there, err := catalog.Prepared(ctx, d.conn)
	if err != nil || !there {
		return nil, "", err
	}
	list, err := catalog.Log(ctx, d.conn)
	if err != nil {
		return nil, "", err
	}
	var self string
	if err := d.conn.QueryRow(ctx, "select session_user::text").Scan(&self); err != nil {
		return nil, "", catalog.EngineError(err)
	}
	var out []environment.Author
	for i := len(list) - 1; i >= 0; i-- {
		l := list[i]
		names := l.Names()
		out = append(out, environment.Author{Login: l.Login, Program: l.Program, Command: l.Command, At: l.At, Names: names,
			Changed: func(schema string, e *element.Element) bool { return changed(names, schema, e) }})
	}
	return out, self, nil
}

// changed says that a change of things of some names was one of an object.
func changed(names []string, schema string, e *element.Element) bool {
	own := catalog.ID(schema, e)
	if i := strings.IndexByte(own, '('); i > 0 && (e.Type == "function" || e.Type == "procedure" || e.Type == "aggregate") {
		own = own[:i]
	}
	for _, n := range names {
		if n == own {
			return true
		}
		for _, k := range e.Children {
			if k.Type == "index" && n == catalog.ID(schema, k) {
				return true
			}
		}
	}
	return false
}
