package workspace

import (
	"os"
	"testing"
	"time"
)

// TestAClockThatJumps works with a clock that goes a month ahead for one command, and back: no rescue copy is
// thrown away, none written over another, and commits go on. Copies that are really old go, a day later.
func TestAClockThatJumps(t *testing.T) {
	ctx, root := t.Context(), t.TempDir()
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	host := testHost()
	host.Now = func() time.Time { return now } // it stands still unless it is moved
	w, err := Begin(ctx, host, root, BeginOptions{})
	if err != nil {
		t.Fatal(err)
	}
	put := func(text string) {
		t.Helper()
		if err := os.WriteFile(w.disk.Local("a.txt"), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	put("one")
	if _, err := w.Commit(ctx, CommitOptions{Message: "one"}); err != nil {
		t.Fatal(err)
	}
	copies := func(want int, when string) {
		t.Helper()
		w = again(t, w, host)
		if err := w.Claim(ctx); err != nil {
			t.Fatal(when, err)
		}
		list, err := w.RescueCopies(nil)
		if err != nil || len(list) != want {
			t.Errorf("%s: %d rescue copies, not %d; %v", when, len(list), want, err)
		}
	}
	for _, text := range []string{"first edit", "second edit", "third edit"} { // at one instant
		put(text)
		if _, err := w.Discard(ctx, []string{"a.txt"}); err != nil {
			t.Fatal(err)
		}
	}
	copies(3, "three at one instant")
	now = now.AddDate(0, 1, 0)
	copies(3, "a month ahead")
	put("ahead")
	if _, err := w.Commit(ctx, CommitOptions{Message: "ahead"}); err != nil {
		t.Fatal(err)
	}
	now = now.AddDate(0, -1, 0)
	copies(3, "back again")
	put("behind")
	c, err := w.Commit(ctx, CommitOptions{Message: "behind"})
	if err != nil || c.Commit.Depth != 3 {
		t.Errorf("a commit after the clock went back: %+v, %v", c, err)
	}
	now = now.AddDate(-1, 0, 0)
	put("long ago")
	if _, err := w.Discard(ctx, []string{"a.txt"}); err != nil {
		t.Fatal(err)
	}
	copies(4, "a year back")
	now = now.AddDate(1, 1, 0)
	copies(4, "really a month later")
	now = now.Add(23 * time.Hour)
	copies(4, "within the day")
	now = now.Add(2 * time.Hour)
	copies(0, "a day later")
}
