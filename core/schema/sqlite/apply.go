package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"oakenchest/core/element"
)

// DisagreeError says that the schema after all steps is not the wanted one.
type DisagreeError struct{ Changes []element.Change }

// Error names the first difference.
func (e *DisagreeError) Error() string {
	return fmt.Sprintf("after the statements, %d things still differ, %s first", len(e.Changes), e.Changes[0].Address)
}

// ApplyOptions are what Apply takes beside the steps; all may be left out.
type ApplyOptions struct {
	// Done is told after each step.
	Done func(step int)
	// First and More run in the transaction before the steps, and after all is proven. From First on nobody
	// else writes to the database.
	First, More func(ctx context.Context, q Querier) error
}

// Apply carries out the steps in one transaction and proves, before it is
// committed, that the engine's catalog then says what is wanted and that no
// foreign key is broken. Any error leaves the database as it was.
func Apply(ctx context.Context, db *sql.DB, want *element.Element, steps []Step, o ApplyOptions) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	broken, err := brokenKeys(ctx, conn)
	if err != nil {
		return err
	}
	for _, s := range []string{"pragma foreign_keys = off", "pragma legacy_alter_table = on", "begin immediate"} {
		if _, err := conn.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	if o.First != nil {
		err = o.First(ctx, conn)
	}
	if err == nil {
		err = apply(ctx, conn, want, steps, broken, o.Done)
	}
	if err == nil && o.More != nil {
		err = o.More(ctx, conn)
	}
	if err == nil {
		_, err = conn.ExecContext(ctx, "commit")
	}
	if err != nil {
		_, undo := conn.ExecContext(context.WithoutCancel(ctx), "rollback")
		return errors.Join(err, undo)
	}
	_, err = conn.ExecContext(ctx, "pragma legacy_alter_table = off")
	return err
}

func apply(ctx context.Context, conn *sql.Conn, want *element.Element, steps []Step, broken int, done func(int)) error {
	for i, s := range steps {
		for _, stmt := range s.Statements {
			if _, err := conn.ExecContext(ctx, stmt); err != nil {
				return fmt.Errorf("%s (%s): %w", s.What, s.Address.InPath("schema"), engineError(err))
			}
		}
		if done != nil {
			done(i + 1)
		}
	}
	live, err := Read(ctx, conn)
	if err != nil {
		return err
	}
	if d := element.Compare(live, want); d != nil {
		return &DisagreeError{d.Changes("schema")}
	}
	after, err := brokenKeys(ctx, conn)
	if err == nil && after > broken {
		err = fmt.Errorf("%s would refer to nothing", counted(int64(after-broken), "row"))
	}
	return err
}

// brokenKeys counts the rows whose foreign keys refer to nothing.
func brokenKeys(ctx context.Context, q Querier) (n int, err error) {
	rows, err := q.QueryContext(ctx, "pragma foreign_key_check")
	if err != nil {
		return 0, nil // a key to a table that is not there: nothing to count
	}
	defer rows.Close()
	for rows.Next() {
		n++
	}
	return n, nil
}
