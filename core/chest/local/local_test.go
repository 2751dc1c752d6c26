package local

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"oakenchest/core/fault"
)

func TestAChestOfANewerFormatIsRefused(t *testing.T) {
	c, err := Create(t.Context(), filepath.Join(t.TempDir(), "chest"), "Imke", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
	for text, want := range map[string]fault.Code{"oaken chest 4\n": fault.Unreachable, "oaken chest 1\n": fault.Unreachable, "oaken chest 0\n": fault.Damaged, "rubbish": fault.Damaged} {
		if err := os.WriteFile(filepath.Join(c.Dir, "format"), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(t.Context(), c.Dir, time.Now); fault.CodeOf(err) != want {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := Create(t.Context(), c.Dir, "Imke", time.Now); fault.CodeOf(err) != fault.Refused {
		t.Errorf("a chest over a chest: %v", err)
	}
}
