// Package trace writes down what a command asks of a chest: each view of the records, each statement, act and
// bale, with what it took. It goes along in a context; without one it costs nothing.
package trace

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"
)

// Kind says what was done.
type Kind string

// The kinds.
const (
	View      Kind = "view"      // a consistent view of the records was opened
	Statement Kind = "statement" // one statement of SQL
	Act       Kind = "act"       // one act, in one transaction
	Sign      Kind = "sign"      // what a workspace tells of itself: no act
	Bale      Kind = "bale"      // one bale was made durable
	Lease     Kind = "lease"     // a lease was taken, renewed or given back
	Journey   Kind = "journey"   // a server was asked, and answered
)

// Trace takes lines in. It may be shared by goroutines.
type Trace struct {
	mu  sync.Mutex
	out io.Writer
	now func() time.Time
}

// New makes a trace that writes a line for each thing: its kind, the microseconds that it took, and what it
// was, with tabs between.
func New(out io.Writer, now func() time.Time) *Trace { return &Trace{out: out, now: now} }

type inContext struct{}

// With puts a trace into a context.
func With(ctx context.Context, t *Trace) context.Context {
	return context.WithValue(ctx, inContext{}, t)
}

// Begin notes that something begins; the function that comes back notes that it has ended. Both do nothing
// in a context without a trace.
func Begin(ctx context.Context, k Kind, what string) (end func()) {
	t, _ := ctx.Value(inContext{}).(*Trace)
	if t == nil {
		return func() {}
	}
	begun := t.now()
	return func() {
		line := strings.Join(strings.Fields(what), " ")
		t.mu.Lock()
		defer t.mu.Unlock()
		_, _ = fmt.Fprintf(t.out, "%s\t%d\t%s\n", k, t.now().Sub(begun).Microseconds(), line) // a trace that can't be written stops nothing
	}
}
