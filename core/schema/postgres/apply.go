package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

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

// AfterError says that everything is done and kept but a step that runs after the
// transaction.
type AfterError struct {
	Step Step
	Err  error
}

// Error gives the cause.
func (e *AfterError) Error() string { return e.Err.Error() }

// Unwrap gives the cause.
func (e *AfterError) Unwrap() error { return e.Err }

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
// but for steps that had to be committed before; see HalfwayError. Without want, the
// steps are declared statements themselves, and there is nothing to compare with.
func Apply(ctx context.Context, conn *pgx.Conn, want *element.Element, steps []Step, o ApplyOptions) (err error) {
	var first, after []Step
	rest := make([]Step, 0, len(steps))
	for _, s := range steps {
		switch {
		case s.Before:
			first = append(first, s)
		case s.After:
			after = append(after, s)
		default:
			rest = append(rest, s)
		}
	}
	var done []Step
	defer func() {
		if err != nil && len(done) > 0 {
			err = &HalfwayError{done, err}
		}
	}()
	path := "''"
	if want == nil {
		path = "public" // declared statements, as people wrote them
	}
	setup := settings + fmt.Sprintf("set search_path = %s; set lock_timeout = %d;", path, o.LockWait.Milliseconds())
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
	soon := want
	if want != nil {
		soon = before(want, after)
	}
	err = inside(ctx, conn, soon, rest, n, o)
	if err == nil {
		_, err = conn.Exec(ctx, "commit", pgx.QueryExecModeSimpleProtocol)
	}
	if err != nil && !conn.IsClosed() {
		_, undo := conn.Exec(context.WithoutCancel(ctx), "rollback", pgx.QueryExecModeSimpleProtocol)
		return errors.Join(err, undo)
	}
	if err != nil || len(after) == 0 {
		return err
	}
	return afterwards(ctx, conn, want, after, n+len(rest), o)
}

// afterwards runs the steps that come after the transaction, each by itself, and proves
// the whole.
func afterwards(ctx context.Context, conn *pgx.Conn, want *element.Element, steps []Step, n int, o ApplyOptions) error {
	for _, s := range steps {
		if err := runStep(ctx, conn, s); err != nil {
			// what is half built is of no use
			if index, ok := strings.CutPrefix(s.What, "create the "); ok && index == "index" && !conn.IsClosed() {
				last := s.Address.Steps[len(s.Address.Steps)-1].Key
				_, undo := conn.Exec(context.WithoutCancel(ctx), "drop index if exists "+ident(s.Address.Steps[0].Key, last),
					pgx.QueryExecModeSimpleProtocol)
				err = errors.Join(err, undo)
			}
			return &AfterError{s, err}
		}
		n++
		if o.Done != nil {
			o.Done(n)
		}
	}
	return prove(ctx, conn, want, o)
}

func inside(ctx context.Context, conn *pgx.Conn, want *element.Element, steps []Step, n int, o ApplyOptions) error {
	for at := 0; at < len(steps); {
		to := at + 1
		for size := len(steps[at].Statements); to < len(steps) && size < batch; to++ {
			size += len(steps[to].Statements)
		}
		if err := runSteps(ctx, conn, steps[at:to]); err != nil {
			return err
		}
		if at = to; o.Done != nil {
			o.Done(n + at)
		}
	}
	if o.More != nil {
		if err := o.More(ctx, conn); err != nil {
			return err
		}
	}
	return prove(ctx, conn, want, o)
}

// prove reads the catalog, which must say what is wanted.
func prove(ctx context.Context, conn *pgx.Conn, want *element.Element, o ApplyOptions) error {
	if want == nil {
		return nil
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

// batch is about how many statements go to the engine in one round trip.
const batch = 100

// runSteps runs several steps in one round trip. An error is told of the step whose
// statement was refused.
func runSteps(ctx context.Context, conn *pgx.Conn, steps []Step) error {
	var b strings.Builder
	var ends []int // of each step, in bytes
	var counts []int
	n := 0
	for _, s := range steps {
		for _, sql := range s.Statements {
			b.WriteString(sql + ";\n")
			n++
		}
		ends, counts = append(ends, b.Len()), append(counts, n)
	}
	rr := conn.PgConn().Exec(ctx, b.String())
	done := 0
	for rr.NextResult() {
		if _, err := rr.ResultReader().Close(); err != nil {
			break
		}
		done++
	}
	err := rr.Close()
	if err == nil {
		return nil
	}
	at, _ := slices.BinarySearch(counts, done+1)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && done == 0 && pg.Position > 0 {
		at, _ = slices.BinarySearch(ends, int(pg.Position))
	}
	s := steps[min(at, len(steps)-1)]
	return fmt.Errorf("%s (%s): %w", s.What, s.Address.InPath("database"), EngineError(err))
}

func runStep(ctx context.Context, conn *pgx.Conn, s Step) error {
	for _, sql := range s.Statements {
		if _, err := conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err != nil {
			return fmt.Errorf("%s (%s): %w", s.What, s.Address.InPath("database"), EngineError(err))
		}
	}
	return nil
}
