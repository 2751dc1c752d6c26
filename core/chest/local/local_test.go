package local_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/local"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

func TestAChestOfANewerFormatIsRefused(t *testing.T) {
	c, err := local.Create(t.Context(), filepath.Join(t.TempDir(), "chest"), "Imke", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
	for text, want := range map[string]fault.Code{"oaken chest 4\n": fault.Unreachable, "oaken chest 1\n": fault.Unreachable,
		"oaken chest 0\n": fault.Damaged, "rubbish": fault.Damaged} {
		if err := os.WriteFile(filepath.Join(c.Dir, "format"), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		if _, err := local.Open(t.Context(), c.Dir, time.Now); fault.CodeOf(err) != want {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := local.Create(t.Context(), c.Dir, "Imke", time.Now); fault.CodeOf(err) != fault.Refused {
		t.Errorf("a chest over a chest: %v", err)
	}
}

// TestAFolderKeepsThePromises holds it to all of them, with two handles as two processes would have them.
func TestAFolderKeepsThePromises(t *testing.T) {
	chesttest.Conform(t, func(t *testing.T) (one, other chest.Store) {
		dir := filepath.Join(t.TempDir(), "chest")
		a, err := local.Create(t.Context(), dir, "Imke", time.Now)
		if err != nil {
			t.Fatal(err)
		}
		b, err := local.Open(t.Context(), dir, time.Now)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { a.Close(); b.Close() })
		return a, b
	})
}

// TestTheTrailSaysWhoDidWhat holds the rows of the trail against the acts that were done, and refused.
func TestTheTrailSaysWhoDidWhat(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "chest")
	f, err := local.Create(t.Context(), dir, "Imke", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c := chest.New(f)
	c.Actor = chest.Actor{Person: "Tarek", Workspace: "lab"}
	one, err := c.Publish(t.Context(), chest.Draft{Branch: "main", Author: "Tarek", Time: time.Now(), Message: "own"})
	if err == nil {
		_, err = c.Publish(t.Context(), chest.Draft{Branch: "main", Tip: one.ID, Author: "Imke", Time: time.Now(), Message: "hers"})
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(t.Context(), chest.Draft{Branch: "main", Tip: one.ID, Author: "Tarek", Time: time.Now(),
		Message: "late"}); err == nil {
		t.Error("a branch moved from where it was not")
	}
	if err := c.AddRelease(t.Context(), ledger.Release{Name: "spring", Commit: one.ID}); err != nil {
		t.Fatal(err)
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	l, err := tables.Open(t.Context(), filepath.Join(dir, "ledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	tx, err := l.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	rows, err := tx.Trail()
	var got []string
	for _, r := range rows {
		if r.Person != "Tarek" || r.Workspace != "lab" || r.Time.IsZero() {
			t.Errorf("%+v", r)
		}
		got = append(got, r.Verb+" "+r.Subject)
	}
	if want := []string{"publish main", "publish main", "attribute Imke", "release release:spring"}; err != nil ||
		!slices.Equal(got, want) {
		t.Errorf("the trail is %q, %v", got, err)
	}
}
