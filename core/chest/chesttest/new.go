// Package chesttest holds whatever stands behind a chest to the promises of chest.Store, and makes chests for
// tests.
package chesttest

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/local"
	"oakenchest/core/ledger/tables"
)

// New makes an empty chest of a person in a folder that goes with the test.
func New(t testing.TB, person string) *chest.Chest {
	t.Helper()
	f, err := local.Create(t.Context(), filepath.Join(t.TempDir(), "chest"), person, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c := chest.New(f)
	c.Actor = chest.Actor{Person: person, Workspace: "desk"}
	t.Cleanup(func() {
		if err := c.Close(); err != nil {
			t.Error(err)
		}
	})
	return c
}

// Open opens the chest in a folder for the length of a test.
func Open(t testing.TB, dir string) *chest.Chest {
	t.Helper()
	return opened(t, dir, local.Open)
}

// OpenServed is Open of one that a server serves meanwhile.
func OpenServed(t testing.TB, dir string) *chest.Chest {
	t.Helper()
	return opened(t, dir, local.OpenServed)
}

func opened(t testing.TB, dir string, open func(context.Context, string, func() time.Time) (*local.Folder, error)) *chest.Chest {
	t.Helper()
	f, err := open(t.Context(), dir, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c := chest.New(f)
	c.Actor = chest.Actor{Person: "Imke", Workspace: "desk"}
	t.Cleanup(func() { _ = c.Close() }) // a test may have closed it
	return c
}

// Fill makes a chest in dir with records as they are written, for graphs that would take long to publish.
func Fill(ctx context.Context, dir string, write func(*tables.Tx) error) error {
	f, err := local.Create(ctx, dir, "Imke", time.Now)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	l, err := tables.Open(ctx, filepath.Join(dir, "ledger.db"))
	if err != nil {
		return err
	}
	defer l.Close()
	return l.Update(ctx, write)
}
