package content

import (
	"errors"
	"path/filepath"
	"testing"
)

// TestAStoreWhoseFolderIsGoneIsAway opens a store in a folder that is not there: that is a place out of reach, and no
// mistake of the program.
func TestAStoreWhoseFolderIsGoneIsAway(t *testing.T) {
	if _, err := Open(filepath.Join(t.TempDir(), "gone", "bales")); !errors.Is(err, ErrAway) {
		t.Errorf("%v", err)
	}
}
