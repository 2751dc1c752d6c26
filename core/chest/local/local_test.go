package local_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/chest/local"
	"oakenchest/core/fault"
)

func TestAChestOfANewerFormatIsRefused(t *testing.T) {
	c, err := local.Create(t.Context(), filepath.Join(t.TempDir(), "chest"), "Imke", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
	for text, want := range map[string]fault.Code{"oaken chest 4\n": fault.Unreachable, "oaken chest 1\n": fault.Unreachable, "oaken chest 0\n": fault.Damaged, "rubbish": fault.Damaged} {
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
