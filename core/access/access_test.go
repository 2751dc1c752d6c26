package access

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func newBook(t *testing.T, file string) *Book {
	t.Helper()
	b, err := Open(t.Context(), file, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = b.Close() }) // some close it before
	return b
}

// TestAnOlderBookIsBroughtUp takes a book back to format 1, and opens it: who was in it is, and it takes secrets of targets.
func TestAnOlderBookIsBroughtUp(t *testing.T) {
	file := filepath.Join(t.TempDir(), "server.db")
	b := newBook(t, file)
	if err := b.AddProject(t.Context(), Project{Name: "reef", ID: NewProjectID(), By: "Imke"}); err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{"drop table agreed", "drop table keys", "update format set version = 1"} {
		if _, err := b.db.ExecContext(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	b = newBook(t, file)
	if list, err := b.Projects(t.Context()); err != nil || len(list) != 1 {
		t.Errorf("%v, %v", list, err)
	}
	if err := b.Keep(t.Context(), "id", "reef", "Imke", []Key{{Target: "x", Name: "A", Value: "b"}}); err != nil {
		t.Error(err)
	}
	if _, err := b.db.ExecContext(t.Context(), "update format set version = 99"); err != nil {
		t.Fatal(err)
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	if b, err := Open(t.Context(), file, time.Now); err == nil {
		t.Error("a book of a newer program was opened", b.Close())
	}
}

// TestAKeyIsForOneTarget: a secret counts for its project, target and name alone, the newest of them; it is in no list and in no
// copy, and forgotten it is in the file no more.
func TestAKeyIsForOneTarget(t *testing.T) {
	dir := t.TempDir()
	b := newBook(t, filepath.Join(dir, "server.db"))
	ctx := t.Context()
	for _, v := range []string{"first-secret", "second-secret"} {
		if err := b.Keep(ctx, "p", "reef", "Imke", []Key{{Target: "db:${A}", Name: "A", Value: v}}); err != nil {
			t.Fatal(err)
		}
	}
	if v, ok := b.Key(ctx, "p", "db:${A}", "A"); !ok || v != "second-secret" {
		t.Errorf("%q, %v", v, ok)
	}
	for _, other := range [][3]string{{"q", "db:${A}", "A"}, {"p", "db2:${A}", "A"}, {"p", "db:${A}", "B"}} {
		if v, ok := b.Key(ctx, other[0], other[1], other[2]); ok || v != "" {
			t.Errorf("%v gets %q", other, v)
		}
	}
	if list, err := b.Keys(ctx, "p"); err != nil || len(list) != 1 || list[0].Value != "" || list[0].By != "Imke" {
		t.Errorf("%+v, %v", list, err)
	}
	if err := b.BackUp(ctx, filepath.Join(dir, "copy.db"), nil); err != nil {
		t.Fatal(err)
	}
	if n, err := b.Drop(ctx, "p", "reef", "Imke", []string{"db:${A}"}); err != nil || n != 1 {
		t.Errorf("%d, %v", n, err)
	}
	if err := b.Close(); err != nil { // what is in the log beside goes into the file
		t.Fatal(err)
	}
	for _, name := range []string{"copy.db", "server.db"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil || bytes.Contains(data, []byte("-secret")) {
			t.Errorf("a secret stands in %s: %v", name, err)
		}
	}
}
