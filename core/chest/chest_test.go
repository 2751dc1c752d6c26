package chest_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	. "oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

func create(t *testing.T) *Chest {
	t.Helper()
	return chesttest.New(t, "Imke")
}

// record commits files (path to text) on top of tip.
func record(t *testing.T, c *Chest, branch string, tip, merged ledger.ID, files map[string]string) ledger.Commit {
	t.Helper()
	b := c.Contents.Begin(t.Context())
	var list []File
	for p, text := range files {
		d, err := b.PutBytes([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, File{Path: p, Mode: Plain, Size: int64(len(text)), Digest: d})
	}
	tree, err := c.WriteTree(b, list)
	if err == nil {
		err = b.Commit()
	}
	if err != nil {
		t.Fatal(err)
	}
	commit, err := c.Publish(t.Context(), Draft{Branch: branch, Tip: tip, Merged: merged, Tree: tree, Author: "Imke", Workspace: "desk",
		Time: noon, Message: fmt.Sprint(files)})
	if err != nil {
		t.Fatal(err)
	}
	return commit
}

func TestCommitsFormAGraphWithAddresses(t *testing.T) {
	c, ctx := create(t), context.Background()
	one := record(t, c, "main", ledger.ID{}, ledger.ID{}, map[string]string{"a/b/reef.txt": "1", "c.txt": "x"})
	two := record(t, c, "main", one.ID, ledger.ID{}, map[string]string{"a/b/reef.txt": "2", "c.txt": "x"})
	if err := c.AddBranch(ctx, ledger.Branch{Name: "kelp", Tip: one.ID, Author: "Imke", Time: noon}); err != nil {
		t.Fatal(err)
	}
	side := record(t, c, "kelp", one.ID, ledger.ID{}, map[string]string{"a/b/reef.txt": "1", "c.txt": "y"})
	merged := record(t, c, "main", two.ID, side.ID, map[string]string{"a/b/reef.txt": "2", "c.txt": "y"})
	if base, err := c.MergeBases(ctx, two, side); err != nil || len(base) != 1 || base[0].ID != one.ID {
		t.Errorf("merge base: %v, %v", base, err)
	}
	if base, _ := c.MergeBases(ctx, merged, side); len(base) != 1 || base[0].ID != side.ID {
		t.Error("a merged commit is not found as base")
	}
	for state, want := range map[string]ledger.ID{"main": merged.ID, "main:1": one.ID, "main:3": merged.ID, "kelp:2": side.ID,
		"kelp:1": one.ID, two.ID.String()[:10]: two.ID} {
		if got, err := c.Resolve(ctx, state); err != nil || got.ID != want {
			t.Errorf("%s: got %s, %v, want %s", state, got.ID.Short(), err, want.Short())
		}
	}
	for _, state := range []string{"main:0", "main:9", "nothing", "release:none", "kelp:x", "", "0"} {
		if _, err := c.Resolve(ctx, state); fault.Status(err) != 2 {
			t.Errorf("%s: %v", state, err)
		}
	}
	var order []ledger.ID
	err := c.Ancestors(ctx, merged.ID, func(x ledger.Commit) (bool, error) { order = append(order, x.ID); return true, nil })
	if err != nil || len(order) != 4 || order[0] != merged.ID || order[3] != one.ID {
		t.Errorf("ancestors: %v, %v", order, err)
	}
	if f, err := c.At(merged.Tree, "a/b/reef.txt"); err != nil || f.Size != 1 || f.Mode != Plain {
		t.Errorf("At: %v, %v", f, err)
	}
	if f, err := c.At(merged.Tree, "a/none"); err != nil || f.Mode != 0 {
		t.Errorf("At of nothing: %v, %v", f, err)
	}
	a, _ := c.At(one.Tree, "a")
	b, _ := c.At(side.Tree, "a")
	if a.Digest != b.Digest {
		t.Error("equal folders have different digests")
	}
}

func TestABranchThatMovedIsNotOverwritten(t *testing.T) {
	c := create(t)
	one := record(t, c, "main", ledger.ID{}, ledger.ID{}, map[string]string{"a": "1"})
	record(t, c, "main", one.ID, ledger.ID{}, map[string]string{"a": "2"})
	_, err := c.Publish(t.Context(), Draft{Branch: "main", Tip: one.ID, Tree: one.Tree, Author: "Tarek", Workspace: "lab", Time: noon,
		Message: "late"})
	if fault.CodeOf(err) != fault.Refused {
		t.Fatalf("got %v", err)
	}
	if tip, _ := c.Resolve(t.Context(), "main"); tip.Depth != 2 || tip.Author != "Imke" {
		t.Error("the refused commit left a trace")
	}
}

func TestLocksAreForOneWorkspace(t *testing.T) {
	c, ctx := create(t), context.Background()
	lock := func(p, who, where string) error {
		_, _, err := c.Lock(ctx, TakeLocks{Wanted: []ledger.Lock{{Address: p, Holder: who, Workspace: where, Since: noon}}, Now: noon})
		return err
	}
	if err := lock("exhibit/reef.glb", "Imke", "desk"); err != nil {
		t.Fatal(err)
	}
	for _, p := range []string{"exhibit/reef.glb", "exhibit", "exhibit/reef.glb/x"} {
		for _, who := range [][2]string{{"Tarek", "lab"}, {"Imke", "laptop"}} {
			if err := lock(p, who[0], who[1]); fault.CodeOf(err) != fault.Refused {
				t.Errorf("%s by %v: %v", p, who, err)
			}
		}
	}
	if err := lock("exhibit/reef.glb", "Imke", "desk"); err != nil {
		t.Errorf("locking again: %v", err)
	}
	if err := lock("exhibit/reef.glb2", "Tarek", "lab"); err != nil {
		t.Errorf("a name that only begins alike: %v", err)
	}
	unlock := func(who, where string, addresses ...string) error {
		_, err := c.Unlock(ctx, FreeLocks{Holder: who, Workspace: where, Addresses: addresses, Now: noon})
		return err
	}
	if err := unlock("Tarek", "lab", "exhibit/reef.glb"); fault.CodeOf(err) != fault.Refused {
		t.Errorf("unlocking another's: %v", err)
	}
	if err := unlock("Imke", "desk", "exhibit/reef.glb", "none"); fault.CodeOf(err) != fault.Usage {
		t.Errorf("unlocking what is not locked: %v", err)
	}
	if held, _ := c.Locks(ctx); len(held) != 2 {
		t.Errorf("a failed unlock changed something: %v", held)
	}
}

func TestReleasesAndNames(t *testing.T) {
	c, ctx := create(t), context.Background()
	one := record(t, c, "main", ledger.ID{}, ledger.ID{}, map[string]string{"a": "1"})
	r := ledger.Release{Name: "spring", Commit: one.ID, Author: "Ravi", Time: noon, Comment: "for the opening"}
	if err := c.AddRelease(ctx, r); err != nil {
		t.Fatal(err)
	}
	if err := c.AddRelease(ctx, r); fault.CodeOf(err) != fault.Refused {
		t.Errorf("a second one: %v", err)
	}
	if got, err := c.Resolve(ctx, "release:spring"); err != nil || got.ID != one.ID {
		t.Errorf("resolve: %v", err)
	}
	for _, bad := range []string{"", "work", "a:b", "-x", "/a", "a/../b", "a\nb", " a"} {
		if CheckName(bad) == nil {
			t.Errorf("%q is taken as a name", bad)
		}
	}
}
