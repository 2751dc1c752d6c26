package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind/all"
)

// TestTheChestsOwnerRulesWhenNobodyIsLeft lets time pass since those who may change the rules
// were seen last.
func TestTheChestsOwnerRulesWhenNobodyIsLeft(t *testing.T) {
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "oaken.toml"), []byte("project = \"x\"\n\n[team]\nmay-rule = [\"Imke\"]\n"),
		0o666); err != nil {
		t.Fatal(err)
	}
	w, err := Begin(t.Context(), Host{Now: func() time.Time { return now }, Machine: "desk", Person: "Imke", Kinds: all.Table()}, folder,
		BeginOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if _, err := w.Commit(t.Context(), CommitOptions{Message: "First"}); err != nil {
		t.Fatal(err)
	}
	w.Person = "Jan"
	change := func(who string) error {
		branch, err := w.Chest.Branch(t.Context(), chest.FirstBranch)
		if err != nil {
			t.Fatal(err)
		}
		tip, err := w.Chest.Commit(t.Context(), branch.Tip)
		if err != nil {
			t.Fatal(err)
		}
		_, err = w.CommitFiles(t.Context(), chest.FirstBranch, tip,
			map[string][]byte{"oaken.toml": []byte("project = \"x\"\n\n[team]\nmay-rule = [\"" + who + "\"]\n")}, "Rules")
		return err
	}
	now = now.Add(80 * 24 * time.Hour)
	if err := change("Jan"); fault.CodeOf(err) != fault.Refused {
		t.Fatalf("Imke was seen 80 days ago: %v", err)
	}
	w.Person = "Imke"
	if err := change("Odalys"); err != nil { // who was never seen here: nobody can say that she is gone
		t.Fatal(err)
	}
	w.Person = "Jan"
	now = now.Add(20 * 24 * time.Hour)
	if err := change("Jan"); fault.CodeOf(err) != fault.Refused {
		t.Fatalf("Odalys was never seen: %v", err)
	}
	w.Person = "Odalys"
	if err := change("Imke"); err != nil {
		t.Fatal(err)
	}
	w.Person = "Jan"
	if err := change("Jan"); err != nil {
		t.Fatalf("nobody is left: %v", err)
	}
	list, err := w.Chest.Attempts(t.Context(), "")
	if err != nil || len(list) != 1 || list[0].Person != "Jan" || !strings.Contains(list[0].Said, "nothing was seen of Imke") {
		t.Errorf("the record: %+v, %v", list, err)
	}
	if err := change("Odalys"); err != nil {
		t.Errorf("Jan may by the new rules: %v", err)
	}
	w.Person = "Imke"
	if err := change("\"unreadable"); fault.CodeOf(err) != fault.Refused || !strings.Contains(err.Error(), "could not be read then") ||
		strings.Contains(err.Error(), "%!") {
		t.Errorf("rules that nobody can read: %v", err)
	}
}
