package postgres

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
	"oakenchest/core/schema/scope"
)

// DisagreeError says that the schema after all steps is not the wanted one.
type DisagreeError struct{ Changes []element.Change }

// Error names the first difference.
func (e *DisagreeError) Error() string {
	c := e.Changes[0]
	return fmt.Sprintf("after the statements, %d things still differ, first %s: %s instead of %s", len(e.Changes), c.Address, c.From, c.To)
}

// HalfwayError says that the steps that had to be committed first are done, and the
// others are not.
type HalfwayError struct {
	Done []Step
	Err  error
}

// Error gives the cause.
func (e *HalfwayError) Error() string { return e.Err.Error() }

// Unwrap gives the cause.
func (e *HalfwayError) Unwrap() error { return e.Err }

// ApplyOptions are the choices of Apply.
type ApplyOptions struct {
	// LockWait is how long a statement waits for a lock; zero for ever.
	LockWait time.Duration
	// Scope says what must agree in the end.
	Scope scope.Scope
	// Done, when set, is told after each step.
	Done func(step int)
	// More, when set, runs in the transaction after the steps.
	More func(ctx context.Context, conn *pgx.Conn) error
}

// Apply carries out the steps in one transaction and proves, before it is committed,
// that the catalog then says what is wanted. Any error leaves the database as it was,
// but for steps that had to be committed before; see HalfwayError.
func Apply(ctx context.Context, conn *pgx.Conn, want *element.Element, steps []Step, o ApplyOptions) (err error) {
	var first []Step
	rest := make([]Step, 0, len(steps))
	for _, s := range steps {
		if s.Before {
			first = append(first, s)
		} else {
			rest = append(rest, s)
		}
	}
	var done []Step
	defer func() {
		if err != nil && len(done) > 0 {
			err = &HalfwayError{done, err}
		}
	}()
	setup := settings + fmt.Sprintf("set search_path = ''; set lock_timeout = %d;", o.LockWait.Milliseconds())
	if _, err := conn.Exec(ctx, setup, pgx.QueryExecModeSimpleProtocol); err != nil {
		return EngineError(err)
	}
	n := 0
	for _, s := range first {
		if err := runStep(ctx, conn, s); err != nil {
			return err
		}
		n++
		done = append(done, s)
		if o.Done != nil {
			o.Done(n)
		}
	}
	if _, err := conn.Exec(ctx, "begin", pgx.QueryExecModeSimpleProtocol); err != nil {
		return EngineError(err)
	}
	err = inside(ctx, conn, want, rest, n, o)
	if err == nil {
		_, err = conn.Exec(ctx, "commit", pgx.QueryExecModeSimpleProtocol)
	}
	if err != nil && !conn.IsClosed() {
		_, undo := conn.Exec(context.WithoutCancel(ctx), "rollback", pgx.QueryExecModeSimpleProtocol)
		return errors.Join(err, undo)
	}
	return err
}

func inside(ctx context.Context, conn *pgx.Conn, want *element.Element, steps []Step, n int, o ApplyOptions) error {
	for i, s := range steps {
		if err := runStep(ctx, conn, s); err != nil {
			return err
		}
		if o.Done != nil {
			o.Done(n + i + 1)
		}
	}
	if o.More != nil {
		if err := o.More(ctx, conn); err != nil {
			return err
		}
	}
	now, err := ReadInside(ctx, conn)
	if err != nil {
		return EngineError(err)
	}
	if d := element.Compare(o.Scope.Apply(now.Root), o.Scope.Apply(want)); d != nil {
		return &DisagreeError{d.Changes("database")}
	}
	return nil
}

func runStep(ctx context.Context, conn *pgx.Conn, s Step) error {
	for _, sql := range s.Statements {
		if _, err := conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err != nil {
			return fmt.Errorf("%s (%s): %w", s.What, s.Address.InPath("database"), EngineError(err))
		}
	}
	return nil
}
