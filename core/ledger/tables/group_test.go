package tables

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"oakenchest/core/ledger"
)

// newServed makes records that are served, in a file.
func newServed(t *testing.T) (l *Ledger, file string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "ledger.db")
	l, err := Create(t.Context(), file)
	if err == nil {
		err = l.Close()
	}
	if err == nil {
		l, err = OpenServed(t.Context(), file)
	}
	if err != nil {
		t.Fatal(err)
	}
	return l, file
}

// TestManyWriteTogetherEachAsIfAlone lets many change served records at once, some of whom fail after a change, some panic, some
// have given up: what they did is not there, what the others did is, and each of these sees what came before it.
func TestManyWriteTogetherEachAsIfAlone(t *testing.T) {
	l, file := newServed(t)
	gone, give := context.WithCancel(t.Context())
	give()
	const many = 400
	var all sync.WaitGroup
	for i := range many {
		all.Go(func() {
			ctx, fails := t.Context(), i%4
			if fails == 3 {
				ctx = gone
			}
			before := -1
			err := l.Update(ctx, func(tx *Tx) error {
				list, err := tx.Locks()
				if err != nil {
					return err
				}
				before = len(list)
				if err := tx.AddLock(ledger.Lock{Address: fmt.Sprint("a", i), Holder: "Imke", Workspace: "w", Since: noon}); err != nil {
					return err
				}
				switch fails {
				case 1:
					return errors.New("no")
				case 2:
					panic("oh")
				}
				return nil
			})
			if (err == nil) != (fails == 0) {
				t.Errorf("%d: %v", i, err)
			}
			if fails == 3 && before >= 0 {
				t.Errorf("%d: who had given up got a turn", i)
			}
		})
	}
	all.Wait()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	l, err := Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	list, err := tx.Locks()
	if err != nil || len(list) != many/4 {
		t.Errorf("%d locks, not %d: %v", len(list), many/4, err)
	}
	moment, err := tx.Now()
	if err != nil || moment.At != 1+many/4 { // the records begin at 1
		t.Errorf("the moment is %+v after %d changes: %v", moment, many/4, err)
	}
}

// TestWhatTheEngineGivesUpIsDoneAnewAlone: where the engine gives a whole transaction up in the middle, nobody is told that
// something was done that is not there.
func TestWhatTheEngineGivesUpIsDoneAnewAlone(t *testing.T) {
	l, _ := newServed(t)
	defer l.Close()
	add := func(name string) func(*Tx) error {
		return func(tx *Tx) error {
			return tx.AddLock(ledger.Lock{Address: name, Holder: "Imke", Workspace: "w", Since: noon})
		}
	}
	turns := []*turn{{ctx: t.Context(), fn: add("a"), done: make(chan struct{})}, {ctx: t.Context(), fn: func(tx *Tx) error {
		_, err := tx.exec("rollback") // as the engine does where the disk is full
		return errors.Join(err, errors.New("full"))
	}, done: make(chan struct{})}, {ctx: t.Context(), fn: add("b"), done: make(chan struct{})}}
	l.group.waiting, l.group.busy = turns, true
	l.group.under.Go(l.group.work)
	for _, turn := range turns {
		<-turn.done
	}
	if turns[0].err != nil || turns[1].err == nil || turns[2].err != nil {
		t.Errorf("%v, %v, %v", turns[0].err, turns[1].err, turns[2].err)
	}
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	if list, err := tx.Locks(); err != nil || len(list) != 2 {
		t.Errorf("%v, %v", list, err)
	}
}
