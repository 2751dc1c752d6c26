package workspace

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
)

// files is a state in the reference model: path to content.
type files map[string]string

// model is what the workspace and its chest should hold.
type model struct {
	commits  map[ledger.ID]files
	branches map[string]ledger.ID
	branch   string
	work     files
}

func testHost() Host {
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	return Host{Now: func() time.Time { now = now.Add(time.Second); return now }, Machine: "desk", Person: "Imke", Kinds: all.Table()}
}

func onDisk(t *testing.T, root string) files {
	t.Helper()
	out := files{}
	err := filepath.WalkDir(root, func(full string, d fs.DirEntry, err error) error {
		if err != nil || d.Name() == Folder {
			if err == nil {
				return filepath.SkipDir
			}
			return err
		}
		if !d.IsDir() {
			data, err := os.ReadFile(full)
			rel, _ := filepath.Rel(root, full)
			out[filepath.ToSlash(rel)] = string(data)
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// play carries out one random act on the workspace and on the model.
func (m *model) play(ctx context.Context, t *testing.T, w *Workspace, r *rand.Rand) error {
	names := []string{"a.txt", "b/c.txt", "b/d.bin", "e/f/g.json", "h.txt", "b", "e/f"}
	switch n := r.IntN(20); {
	case n < 8: // edit by hand
		p := names[r.IntN(len(names))]
		if w.clash(m.work, p) {
			return nil
		}
		text := fmt.Sprintf("line %d\nshared\nline %d\n", r.IntN(5), r.IntN(5))
		if strings.HasSuffix(p, ".json") {
			text = fmt.Sprintf(`{"a":%d,"b":%d}`, r.IntN(3), r.IntN(3))
		} else if strings.HasSuffix(p, ".bin") {
			text = "\x00" + text
		}
		m.work[p] = text
		if err := os.MkdirAll(filepath.Dir(w.disk.Local(p)), 0o777); err != nil {
			return err
		}
		return os.WriteFile(w.disk.Local(p), []byte(text), 0o666)
	case n < 10: // remove by hand
		for p := range m.work {
			if p != "oaken.toml" {
				delete(m.work, p)
				return w.disk.Remove(p)
			}
		}
	case n < 14:
		return m.commit(ctx, w)
	case n == 14:
		name := fmt.Sprintf("branch-%d", len(m.branches))
		if err := w.Chest.AddBranch(ctx, ledger.Branch{Name: name, Tip: w.Base.ID, Author: "Imke", Time: time.Now()}); err != nil {
			return err
		}
		m.branches[name] = w.Base.ID
	case n < 17:
		return m.switchTo(ctx, t, w, r)
	case n == 17:
		return m.merge(ctx, t, w, r)
	case n == 18:
		return m.restore(ctx, w, r)
	default:
		return m.revert(ctx, t, w)
	}
	return nil
}

// clash reports whether a path can't be written because a file or folder of
// another path is in its way.
func (w *Workspace) clash(f files, p string) bool {
	for q := range f {
		if strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/") {
			return true
		}
	}
	return false
}

func (m *model) commit(ctx context.Context, w *Workspace) error {
	c, err := w.Commit(ctx, CommitOptions{Message: "a message"})
	if err == nil && len(c.Changes) > 0 {
		m.record(c)
	}
	return err
}

func (m *model) record(c *Committed) {
	m.commits[c.Commit.ID] = maps.Clone(m.work)
	m.branches[m.branch] = c.Commit.ID
}

func (m *model) clean(w *Workspace) bool { return maps.Equal(m.work, m.commits[w.Base.ID]) }

func (m *model) switchTo(ctx context.Context, t *testing.T, w *Workspace, r *rand.Rand) error {
	names := slices.Sorted(maps.Keys(m.branches))
	to := names[r.IntN(len(names))]
	_, err := w.Switch(ctx, to)
	if fault.CodeOf(err) == fault.Refused && err != nil {
		if m.clean(w) {
			t.Errorf("a switch of a clean workspace was refused: %v", err)
		}
		return nil
	}
	if err != nil {
		return err
	}
	// Edits of files that are alike on both sides come along.
	before, after := m.commits[ledger.ID{}], m.commits[m.branches[to]]
	if id := m.branches[m.branch]; id != (ledger.ID{}) {
		before = m.commits[id]
	}
	next := maps.Clone(after)
	for p, text := range m.work {
		if before[p] != text {
			next[p] = text
		}
	}
	for p := range before {
		if _, here := m.work[p]; !here {
			delete(next, p)
		}
	}
	m.branch, m.work = to, next
	return nil
}

func (m *model) merge(ctx context.Context, t *testing.T, w *Workspace, r *rand.Rand) error {
	names := slices.Sorted(maps.Keys(m.branches))
	other := m.branches[names[r.IntN(len(names))]]
	if other == (ledger.ID{}) {
		return nil
	}
	theirs, err := w.Chest.Resolve(ctx, other.String())
	if err != nil {
		return err
	}
	res, err := w.Merge(ctx, theirs, "other", "")
	return m.finish(ctx, t, w, r, res, err)
}

func (m *model) revert(ctx context.Context, t *testing.T, w *Workspace) error {
	if w.Base.ID == (ledger.ID{}) {
		return nil
	}
	before := m.commits[w.Base.ID]
	res, err := w.Revert(ctx, w.Base, "")
	if err := m.finish(ctx, t, w, nil, res, err); err != nil {
		return err
	}
	if res != nil && res.Committed != nil && maps.Equal(before, m.work) {
		t.Error("undoing the newest commit changed nothing")
	}
	return nil
}

// finish settles the conflicts of a merge one way or the other and checks what
// no merge may break.
func (m *model) finish(ctx context.Context, t *testing.T, w *Workspace, r *rand.Rand, res *MergeResult, err error) error {
	if err != nil {
		if fault.CodeOf(err) == fault.Refused && !m.clean(w) {
			return nil
		}
		return err
	}
	if res.UpToDate {
		return nil
	}
	if len(res.Conflicts) == 0 {
		m.work = onDisk(t, w.Root)
		m.record(res.Committed)
		return nil
	}
	if r != nil && r.IntN(3) == 0 {
		_, _, err := w.Abandon(ctx)
		return err // the work must be as it was; play's caller compares
	}
	keep := element.KeepMine
	if r != nil && r.IntN(2) == 0 {
		keep = element.KeepTheirs
	}
	for range 20 {
		_, open, err := w.Conflicts(ctx)
		if err != nil {
			return err
		}
		if len(open) == 0 {
			break
		}
		choice := keep
		if !slices.Contains(open[0].Allows, keep) {
			choice = open[0].Allows[0]
		}
		if _, _, err := w.Resolve(ctx, open[0].Address.String(), choice, ""); err != nil {
			return err
		}
	}
	c, err := w.Commit(ctx, CommitOptions{Message: "settled"})
	if err != nil {
		return err
	}
	m.work = onDisk(t, w.Root)
	m.record(c)
	return nil
}

func (m *model) restore(ctx context.Context, w *Workspace, r *rand.Rand) error {
	ids := slices.SortedFunc(maps.Keys(m.commits), func(a, b ledger.ID) int { return strings.Compare(a.String(), b.String()) })
	id := ids[r.IntN(len(ids))]
	if id == (ledger.ID{}) {
		return nil
	}
	c, err := w.Chest.Resolve(ctx, id.String())
	if err != nil {
		return err
	}
	_, err = w.Restore(ctx, []string{"."}, w.CommitState(c, "then"), "")
	m.work = maps.Clone(m.commits[id])
	return err
}

// TestAgainstAModel plays random days of work and compares the workspace with a
// reference after every act; at the end every commit must give back its bytes.
func TestAgainstAModel(t *testing.T) {
	acts := 0
	for seed := range uint64(14) {
		ctx, r := t.Context(), rand.New(rand.NewPCG(seed, 11))
		host, root := testHost(), t.TempDir()
		w, err := Begin(ctx, host, root, BeginOptions{})
		if err != nil {
			t.Fatal(err)
		}
		m := &model{commits: map[ledger.ID]files{{}: {}}, branches: map[string]ledger.ID{"main": {}}, branch: "main", work: onDisk(t, root)}
		if err := m.commit(ctx, w); err != nil {
			t.Fatal(err)
		}
		for act := range 60 {
			if act%10 == 9 { // another process goes on
				w.Close()
				if w, err = Open(ctx, host, root, ""); err != nil {
					t.Fatal(err)
				}
			}
			if err := m.play(ctx, t, w, r); err != nil {
				t.Fatalf("seed %d, act %d: %v", seed, act, err)
			}
			acts++
			if got := onDisk(t, root); !maps.Equal(got, m.work) {
				t.Fatalf("seed %d, act %d: the workspace holds\n%q\nwant\n%q", seed, act, got, m.work)
			}
			if s, err := w.Changes(ctx); err != nil || (len(s.Changes) == 0) != m.clean(w) {
				t.Fatalf("seed %d, act %d: %d changes, clean is %v, %v", seed, act, len(s.Changes), m.clean(w), err)
			}
		}
		for id, want := range m.commits {
			if id == (ledger.ID{}) {
				continue
			}
			c, err := w.Chest.Resolve(ctx, id.String())
			if err != nil {
				t.Fatal(err)
			}
			to := filepath.Join(t.TempDir(), "out")
			if _, err := w.Restore(ctx, []string{"."}, w.CommitState(c, "then"), to); err != nil {
				t.Fatal(err)
			}
			if got := onDisk(t, to); !maps.Equal(got, want) {
				t.Fatalf("seed %d: commit %s gives\n%q\nwant\n%q", seed, Label(c), got, want)
			}
		}
		w.Close()
	}
	t.Logf("%d acts", acts)
}
