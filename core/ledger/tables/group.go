package tables

import (
	"context"
	"fmt"
	"runtime/debug"
	"sync"
)

// group lets many who change records at once share what is dear about it, the way to the disk: those who wait while one
// transaction is written down go into the next together, one after the other, each as if alone (a savepoint of its own).
// Nobody is told that it was done before all of it is durable, and each gets a turn in the order of coming.
type group struct {
	ledger *Ledger

	mu      sync.Mutex // guards what follows
	waiting []*turn
	busy    bool
	under   sync.WaitGroup
}

// turn is what one of them wants done.
type turn struct {
	ctx  context.Context
	fn   func(*Tx) error
	err  error
	done chan struct{}
}

// mostTogether bounds how many go into one transaction.
const mostTogether = 64

// update waits for its turn, and until what was done is durable.
func (g *group) update(ctx context.Context, fn func(*Tx) error) error {
	t := &turn{ctx: ctx, fn: fn, done: make(chan struct{})}
	g.mu.Lock()
	g.waiting = append(g.waiting, t)
	if !g.busy {
		g.busy = true
		g.under.Go(g.work)
	}
	g.mu.Unlock()
	<-t.done
	return t.err
}

// work goes on while somebody waits.
func (g *group) work() {
	for {
		g.mu.Lock()
		n := min(len(g.waiting), mostTogether)
		if n == 0 {
			g.busy = false
			g.mu.Unlock()
			return
		}
		batch := g.waiting[:n:n]
		g.waiting = g.waiting[n:]
		g.mu.Unlock()
		if len(batch) == 1 || !g.together(batch) {
			for _, t := range batch { // nothing of it was kept
				t.err = t.alone(g.ledger)
			}
		}
		for _, t := range batch {
			close(t.done)
		}
	}
}

// together does it in one transaction. False means that nothing was kept of any: the transaction itself failed.
func (g *group) together(batch []*turn) bool {
	ctx := context.Background() // of nobody: who gives up takes nothing from the others
	tx, err := g.ledger.Begin(ctx)
	if err != nil {
		return false
	}
	defer tx.Close()
	for _, t := range batch {
		if t.err = t.ctx.Err(); t.err != nil {
			continue
		}
		if _, err := tx.exec("savepoint turn"); err != nil {
			return false
		}
		own := &Tx{tx: tx.tx, ctx: context.WithoutCancel(t.ctx)}
		if t.err = t.safely(own); t.err != nil {
			if _, err := tx.exec("rollback to turn"); err != nil {
				return false // the engine has given all of it up
			}
		}
		if _, err := tx.exec("release turn"); err != nil {
			return false
		}
	}
	return tx.Finish() == nil
}

// alone does it in a transaction of its own.
func (t *turn) alone(l *Ledger) error {
	if err := t.ctx.Err(); err != nil {
		return err
	}
	tx, err := l.Begin(t.ctx)
	if err != nil {
		return err
	}
	defer tx.Close()
	if err := t.safely(tx); err != nil {
		return err
	}
	return tx.Finish()
}

// safely keeps a mistake of one from ending all.
func (t *turn) safely(tx *Tx) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
		}
	}()
	return t.fn(tx)
}
