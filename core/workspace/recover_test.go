package workspace

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// interrupted gives a workspace with two branches that differ in two files, on
// main, and the tip of the other.
func interrupted(t *testing.T) (*Workspace, Host, ledger.Commit) {
	t.Helper()
	ctx, host, root := t.Context(), testHost(), t.TempDir()
	w, err := Begin(ctx, host, root, BeginOptions{})
	if err != nil {
		t.Fatal(err)
	}
	put := func(a, b string) {
		for p, text := range map[string]string{"a.txt": a, "b.txt": b} {
			if err := os.WriteFile(w.disk.Local(p), []byte(text), 0o666); err != nil {
				t.Fatal(err)
			}
		}
	}
	put("one\n", "one\n")
	if _, err := w.Commit(ctx, CommitOptions{Message: "one"}); err != nil {
		t.Fatal(err)
	}
	if err := w.Chest.AddBranch(ctx, ledger.Branch{Name: "other", Tip: w.Base.ID, Author: "Imke", Time: host.Now()}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Switch(ctx, "other"); err != nil {
		t.Fatal(err)
	}
	put("two\n", "two\n")
	c, err := w.Commit(ctx, CommitOptions{Message: "two"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Switch(ctx, "main"); err != nil {
		t.Fatal(err)
	}
	return w, host, c.Commit
}

// again opens the workspace as the next process does.
func again(t *testing.T, w *Workspace, host Host) *Workspace {
	t.Helper()
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	next, err := Open(t.Context(), host, w.Root, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { next.Close() })
	if err := next.Claim(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(next.disk.JournalFile()); !errors.Is(err, os.ErrNotExist) {
		t.Error("the journal is left")
	}
	return next
}

func text(t *testing.T, w *Workspace, p string) string {
	t.Helper()
	data, err := os.ReadFile(w.disk.Local(p))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestAnInterruptedSwitchIsFinished(t *testing.T) {
	w, host, tip := interrupted(t)
	if err := w.disk.Intend(disk.Journal{What: "switch", Branch: "other", Commit: tip.ID.String()}); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(w.disk.Local("a.txt"), []byte("two\n"), 0o666); err != nil { // it came as far as this
		t.Fatal(err)
	}
	w = again(t, w, host)
	if w.Branch != "other" || w.Base.ID != tip.ID || text(t, w, "b.txt") != "two\n" {
		t.Errorf("on %s at %s with %q", w.Branch, Label(w.Base), text(t, w, "b.txt"))
	}
}

func TestEditsAfterAnInterruptedSwitchStay(t *testing.T) {
	w, host, tip := interrupted(t)
	if err := w.disk.Intend(disk.Journal{What: "switch", Branch: "other", Commit: tip.ID.String()}); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(w.disk.Local("b.txt"), []byte("edited since\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if w.Branch != "other" || text(t, w, "a.txt") != "two\n" || text(t, w, "b.txt") != "edited since\n" {
		t.Errorf("on %s with %q and %q", w.Branch, text(t, w, "a.txt"), text(t, w, "b.txt"))
	}
	s, err := w.Changes(t.Context())
	if err != nil || len(s.Changes) != 1 || s.Changes[0].Path != "b.txt" {
		t.Errorf("changes: %v, %v", s.Changes, err)
	}
}

func TestAnInterruptedRestoreIsFinishedOrLeft(t *testing.T) {
	w, host, tip := interrupted(t)
	j := disk.Journal{What: "restore", Tree: disk.Hex(tip.Tree), Paths: []string{"a.txt"}}
	if err := w.disk.Intend(j); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if text(t, w, "a.txt") != "two\n" || text(t, w, "b.txt") != "one\n" {
		t.Error("the restore was not finished")
	}
	if _, _, err := w.Chest.Lock(t.Context(),
		chest.TakeLocks{Wanted: []ledger.Lock{{Address: "b.txt", Holder: "Tarek", Workspace: "lab", Since: host.Now()}},
			Now: host.Now()}); err != nil {
		t.Fatal(err)
	}
	j.Paths = []string{"b.txt"}
	if err := w.disk.Intend(j); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if text(t, w, "b.txt") != "one\n" {
		t.Error("what Tarek holds was overwritten")
	}
}

func TestAPublishedCommitThatWasNotNotedIsRecognised(t *testing.T) {
	w, host, _ := interrupted(t)
	base := w.Base
	if err := os.WriteFile(w.disk.Local("a.txt"), []byte("three\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	c, err := w.Commit(t.Context(), CommitOptions{Message: "three"})
	if err != nil {
		t.Fatal(err)
	}
	w.Base = base // as if the process had been killed between the two
	if err := w.save(); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if w.Base.ID != c.Commit.ID {
		t.Errorf("at %s, want %s", Label(w.Base), Label(c.Commit))
	}
}

func TestADamagedJournalSaysSo(t *testing.T) {
	w, host, _ := interrupted(t)
	if err := os.WriteFile(w.disk.JournalFile(), []byte("{"), 0o666); err != nil {
		t.Fatal(err)
	}
	w.Close()
	next, err := Open(t.Context(), host, w.Root, "")
	if err != nil {
		t.Fatal(err)
	}
	defer next.Close()
	if err := next.Claim(t.Context()); fault.CodeOf(err) != fault.Damaged {
		t.Errorf("got %v", err)
	}
}

func TestADamagedIndexOnlyCostsTime(t *testing.T) {
	w, _, _ := interrupted(t)
	defer w.Close()
	if _, err := w.Files(t.Context()); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(w.disk.IndexFile())
	if err != nil {
		t.Fatal(err)
	}
	for cut := range len(data) {
		if err := os.WriteFile(w.disk.IndexFile(), data[:cut], 0o666); err != nil {
			t.Fatal(err)
		}
		w.disk.Forget()
		if s, err := w.Changes(t.Context()); err != nil || len(s.Changes) != 0 {
			t.Fatalf("with %d bytes of the index: %v, %v", cut, s, err)
		}
	}
}

// TestStagedFilesArePutIntoPlace stops a switch that brings combined files before, and
// after, the first of them was put into place.
func TestStagedFilesArePutIntoPlace(t *testing.T) {
	for _, placed := range []bool{false, true} {
		w, host, tip := interrupted(t)
		var staged []disk.Staged
		for _, e := range []state.Edit{{Path: "a.txt", Data: []byte("combined\n")}, {Path: "b.txt", Gone: true},
			{Path: "c/new.txt", Data: []byte("fresh\n"), Mode: chest.Executable}} {
			f, err := w.disk.Stage(e, w.Chest.Contents)
			if err != nil {
				t.Fatal(err)
			}
			staged = append(staged, f)
		}
		j := disk.Journal{What: "switch", From: disk.Hex(w.tree()), Branch: "other", Commit: tip.ID.String(),
			Keep: []string{"a.txt", "b.txt"}, Staged: staged}
		if err := w.disk.Intend(j); err != nil {
			t.Fatal(err)
		}
		if placed {
			if err := os.Rename(filepath.Join(w.disk.Own("staged"), staged[0].File), w.disk.Local("a.txt")); err != nil {
				t.Fatal(err)
			}
		}
		w = again(t, w, host)
		if w.Base.ID != tip.ID || text(t, w, "a.txt") != "combined\n" || text(t, w, "c/new.txt") != "fresh\n" {
			t.Errorf("placed %v: at %s with %q", placed, Label(w.Base), text(t, w, "a.txt"))
		}
		if _, err := os.Stat(w.disk.Local("b.txt")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("placed %v: b.txt is still there", placed)
		}
		if info, err := os.Stat(w.disk.Local("c/new.txt")); err != nil || info.Mode()&0o100 == 0 {
			t.Errorf("placed %v: the mode is lost: %v", placed, err)
		}
		if _, err := os.Stat(w.disk.Own("staged")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("placed %v: staged files are left", placed)
		}
	}
}

// TestAnInterruptedAbandonIsFinished gives a merge up that has brought one file back.
func TestAnInterruptedAbandonIsFinished(t *testing.T) {
	w, host, tip := interrupted(t)
	p, err := w.mergeOf(t.Context(), tip, "other", "")
	if err != nil {
		t.Fatal(err)
	}
	m, err := w.merging.Compute(t.Context(), p)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.merging.Apply(t.Context(), p, m); err != nil {
		t.Fatal(err)
	}
	if text(t, w, "a.txt") != "two\n" {
		t.Fatal("the merge wrote nothing")
	}
	p.Abandoning = true
	if err := errors.Join(w.merging.Save(p), os.WriteFile(w.disk.Local("a.txt"), []byte("one\n"), 0o666)); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if left, err := w.Pending(); err != nil || left != nil || text(t, w, "b.txt") != "one\n" {
		t.Errorf("%v, %v, %q", left, err, text(t, w, "b.txt"))
	}
}

// TestHeldCommitsKnowTheirBase stops a command between the list of held commits and the
// workspace's own record.
func TestHeldCommitsKnowTheirBase(t *testing.T) {
	w, host, tip := interrupted(t)
	if _, err := w.Switch(t.Context(), "other"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(w.disk.Local("a.txt"), []byte("held\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	c, err := w.Commit(t.Context(), CommitOptions{Message: "held", Hold: true})
	if err != nil || c.Held != 1 {
		t.Fatalf("%v, %v", c, err)
	}
	w.Base = ledger.Commit{} // what the workspace's own record would say
	if err := w.save(); err != nil {
		t.Fatal(err)
	}
	w = again(t, w, host)
	if w.Base.ID != tip.ID || len(w.HeldCommits()) != 1 {
		t.Errorf("at %s with %d held", Label(w.Base), len(w.HeldCommits()))
	}
	s, err := w.Changes(t.Context())
	if err != nil || len(s.Changes) != 0 || len(s.Waiting) != 1 {
		t.Errorf("%v, %v", s, err)
	}
	out, err := w.Publish(t.Context())
	if err != nil || len(out.Published) != 1 || out.Published[0].Message != "held" {
		t.Errorf("%v, %v", out, err)
	}
}

// TestACopiedWorkspaceIsAnotherOne copies a workspace's folder.
func TestACopiedWorkspaceIsAnotherOne(t *testing.T) {
	w, host, _ := interrupted(t)
	root := t.TempDir()
	joined, err := Join(t.Context(), host, w.Root, filepath.Join(root, "first"), JoinOptions{Person: "Imke"})
	if err != nil {
		t.Fatal(err)
	}
	name := joined.Name
	if err := errors.Join(joined.Close(), os.CopyFS(filepath.Join(root, "copy"), os.DirFS(filepath.Join(root, "first")))); err != nil {
		t.Fatal(err)
	}
	twin, err := Open(t.Context(), host, filepath.Join(root, "copy"), "")
	if err != nil {
		t.Fatal(err)
	}
	defer twin.Close()
	if err := twin.register(t.Context()); err != nil || twin.Name == name {
		t.Errorf("the copy is called %s too: %v", twin.Name, err)
	}
	if err := os.Rename(filepath.Join(root, "first"), filepath.Join(root, "moved")); err != nil {
		t.Fatal(err)
	}
	moved, err := Open(t.Context(), host, filepath.Join(root, "moved"), "")
	if err != nil {
		t.Fatal(err)
	}
	defer moved.Close()
	if err := moved.register(t.Context()); err != nil || moved.Name != name {
		t.Errorf("what moved is called %s: %v", moved.Name, err)
	}
}

// TestWhatCanNotBeFinishedBlocksNoLooking leaves a switch half done, to a commit that can't be read any
// more: looking goes on, work says what to do, and what was begun can be given up.
func TestWhatCanNotBeFinishedBlocksNoLooking(t *testing.T) {
	for _, j := range []disk.Journal{
		{What: "switch", Branch: "other", Commit: strings.Repeat("ab", 32)},
		{What: "restore", Tree: strings.Repeat("cd", 32), Paths: []string{"a.txt"}},
	} {
		w, host, _ := interrupted(t)
		if err := w.disk.Intend(j); err != nil {
			t.Fatal(err)
		}
		reopen := func() {
			t.Helper()
			err := w.Close()
			if err == nil {
				w, err = Open(t.Context(), host, w.Root, "")
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		reopen()
		if _, err := w.ClaimIfFree(t.Context()); err != nil || w.Unfinished == nil {
			t.Fatalf("looking: %v, %v", err, w.Unfinished)
		}
		if _, err := w.Changes(t.Context()); err != nil {
			t.Errorf("changes: %v", err)
		}
		reopen()
		err := w.Claim(t.Context())
		if err == nil || !strings.Contains(fault.HintOf(err), "--give-up") {
			t.Fatalf("work goes on: %v", err)
		}
		kept, err := w.GiveUp()
		if err != nil || kept == "" {
			t.Fatal(kept, err)
		}
		if _, err := os.Stat(filepath.Join(w.Root, filepath.FromSlash(kept), "journal.json")); err != nil {
			t.Error(err)
		}
		reopen()
		if err := w.Claim(t.Context()); err != nil || w.Branch != "main" {
			t.Errorf("after that: %v", err)
		}
	}
}
