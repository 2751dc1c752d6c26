package state_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/review"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// pair is two people with a workspace each, on one chest.
type pair struct {
	t           *testing.T
	imke, tarek *workspace.Workspace
	now         time.Time
	branches    int
}

func newPair(t *testing.T) *pair {
	p := &pair{t: t, now: time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)}
	host := workspace.Host{Now: p.clock, Machine: "desk", Person: "Imke", Kinds: all.Table()}
	dir := t.TempDir()
	root := filepath.Join(dir, "imke")
	p.must(os.Mkdir(root, 0o777))
	p.must(os.WriteFile(filepath.Join(root, "oaken.toml"),
		[]byte("project = \"Rates\"\n\n[[artifact]]\npath = \"database\"\nkind = \"schema\"\n"), 0o666))
	var err error
	p.imke, err = workspace.Begin(t.Context(), host, root, workspace.BeginOptions{Chest: filepath.Join(dir, "chest")})
	p.must(err)
	p.commit(p.imke)
	host.Person = "Tarek"
	p.tarek, err = workspace.Join(t.Context(), host, filepath.Join(dir, "chest"), filepath.Join(dir, "tarek"), workspace.JoinOptions{})
	p.must(err)
	t.Cleanup(func() { p.imke.Close(); p.tarek.Close() })
	return p
}

// clock is a time that goes on: no two versions of a file have the same.
func (p *pair) clock() time.Time { p.now = p.now.Add(time.Second); return p.now }

func (p *pair) must(err error) {
	p.t.Helper()
	if err != nil {
		p.t.Fatal(err)
	}
}

func (p *pair) write(w *workspace.Workspace, x *state.Trial, text string) {
	p.t.Helper()
	full := filepath.Join(w.Root, filepath.FromSlash(x.File()))
	p.must(os.MkdirAll(filepath.Dir(full), 0o777))
	p.must(os.WriteFile(full, []byte(text), 0o666))
	p.must(os.Chtimes(full, p.clock(), p.clock()))
}

func (p *pair) commit(w *workspace.Workspace) *workspace.Committed {
	p.t.Helper()
	c, err := w.Commit(p.t.Context(), workspace.CommitOptions{Message: "A state"})
	p.must(err)
	return c
}

func (p *pair) sync(w *workspace.Workspace) {
	p.t.Helper()
	_, err := w.Sync(p.t.Context())
	p.must(err)
}

// begin makes the base of a trial the only document of both.
func (p *pair) begin(x *state.Trial) {
	p.t.Helper()
	for _, w := range []*workspace.Workspace{p.imke, p.tarek} {
		if s, err := w.Changes(p.t.Context()); err != nil || len(s.Changes) > 0 {
			p.must(err)
			p.commit(w)
		}
	}
	p.sync(p.imke)
	entries, err := os.ReadDir(p.imke.Root)
	p.must(err)
	for _, e := range entries {
		if e.Name() != "oaken.toml" && e.Name() != workspace.Folder {
			p.must(os.RemoveAll(filepath.Join(p.imke.Root, e.Name())))
		}
	}
	p.commits(p.imke, x, x.Base)
	p.sync(p.tarek)
}

// commits writes and commits one version after another.
func (p *pair) commits(w *workspace.Workspace, x *state.Trial, texts ...string) {
	p.t.Helper()
	for _, text := range texts {
		p.write(w, x, text)
		p.commit(w)
	}
}

// A way is how the work of one meets that of the other. Imke has committed the base, and
// both stand on it; it gives the workspace that holds the outcome, and whether it was a
// conflict. In both cases nothing is under way in the end.
type way struct {
	name string
	meet func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool)
}

var ways = []way{
	{"commits that race", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		p.commits(p.imke, x, x.Mine)
		p.write(p.tarek, x, x.Theirs)
		c := p.commit(p.tarek)
		return p.tarek, p.open(p.tarek, len(c.Conflicts) > 0)
	}},
	{"sync", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		p.commits(p.imke, x, x.Mine)
		p.write(p.tarek, x, x.Theirs)
		_, err := p.tarek.Sync(ctx)
		return p.tarek, p.refused(err)
	}},
	{"unpark", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		p.write(p.tarek, x, x.Theirs)
		changes, err := p.tarek.Park(ctx, workspace.ParkOptions{Name: "later"})
		p.must(err)
		p.commits(p.imke, x, x.Mine)
		p.sync(p.tarek)
		if len(changes) == 0 {
			return p.tarek, false
		}
		parked, err := p.tarek.FindParked(ctx, "later")
		p.must(err)
		u, err := p.tarek.Unpark(ctx, parked, false)
		p.must(err)
		return p.tarek, p.open(p.tarek, len(u.Conflicts) > 0)
	}},
	{"revert", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		p.write(p.imke, x, x.Theirs)
		if c := p.commit(p.imke); len(c.Changes) == 0 {
			p.t.Fatalf("nothing to undo:\n%s", x.Told("", nil))
		}
		p.write(p.imke, x, x.Base)
		undone := p.commit(p.imke).Commit
		p.commits(p.imke, x, x.Mine)
		r, err := p.imke.Revert(ctx, undone, "")
		p.must(err)
		return p.imke, p.open(p.imke, len(r.Conflicts) > 0)
	}},
	{"merge", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		theirs := p.branch(ctx, x)
		p.commits(p.imke, x, x.Mine)
		r, err := p.imke.Merge(ctx, theirs, "theirs", "")
		p.must(err)
		return p.imke, p.open(p.imke, len(r.Conflicts) > 0)
	}},
	{"merge into a branch, as a backfill does", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		theirs := p.branch(ctx, x)
		p.commits(p.imke, x, x.Mine)
		_, err := p.tarek.MergeInto(ctx, project.Into{Branch: chest.FirstBranch, Onto: p.imke.Base, Theirs: theirs, Message: "Back again"})
		conflict := p.refused(err)
		p.sync(p.imke)
		return p.imke, conflict
	}},
	{"review", func(p *pair, ctx context.Context, x *state.Trial) (*workspace.Workspace, bool) {
		p.branch(ctx, x)
		desk := &review.Desk{Project: p.tarek.Project, Home: p.tarek, Now: p.clock}
		branches, err := p.imke.Chest.Branches(ctx)
		p.must(err)
		r, err := desk.Open(ctx, review.Draft{Title: "Theirs", Source: branches[len(branches)-1].Name})
		p.must(err)
		p.commits(p.imke, x, x.Mine)
		_, _, err = desk.Merge(ctx, r.Number, "", func(string) {})
		if p.refused(err) {
			p.must(desk.Withdraw(ctx, r.Number))
			return p.imke, true
		}
		p.sync(p.imke)
		return p.imke, false
	}},
}

// branch commits Tarek's version on a branch of its own, and goes back.
func (p *pair) branch(ctx context.Context, x *state.Trial) ledger.Commit {
	p.t.Helper()
	p.branches++
	name := fmt.Sprintf("work-%06d", p.branches)
	p.must(p.tarek.Chest.AddBranch(ctx, ledger.Branch{Name: name, Tip: p.tarek.Base.ID, Author: "Tarek", Time: p.clock()}))
	_, err := p.tarek.Switch(ctx, name)
	p.must(err)
	p.write(p.tarek, x, x.Theirs)
	p.commit(p.tarek)
	tip := p.tarek.Base
	_, err = p.tarek.Switch(ctx, chest.FirstBranch)
	p.must(err)
	return tip
}

// open gives up a merge that is under way.
func (p *pair) open(w *workspace.Workspace, conflict bool) bool {
	p.t.Helper()
	if conflict {
		_, _, err := w.Abandon(p.t.Context())
		p.must(err)
	}
	return conflict
}

// refused reports whether an error tells of a conflict.
func (p *pair) refused(err error) bool {
	p.t.Helper()
	if err != nil && fault.CodeOf(err) != fault.Conflict {
		p.t.Fatal(err)
	}
	return err != nil
}

// TestEveryWayBeforeAJudge brings what two people did to a random document together in
// every way that there is, and holds the outcome against the same model as plain merges.
// OAKEN_MERGES says how many of each format and way.
func TestEveryWayBeforeAJudge(t *testing.T) {
	o := state.NewOutside(t)
	rounds := 3
	if n, err := strconv.Atoi(os.Getenv("OAKEN_MERGES")); err == nil {
		rounds = max(n/100, 3)
	}
	for _, way := range ways {
		t.Run(way.name, func(t *testing.T) {
			clean, conflicts := 0, 0
			var p *pair
			for _, format := range state.Formats() {
				if !o.Knows(format) {
					continue
				}
				for n := range rounds {
					x := state.NewTrial(format, uint64(7000+n))
					if x.Theirs == x.Base || x.Mine == x.Base || x.Mine == x.Theirs {
						continue
					}
					if p == nil {
						p = newPair(t)
					}
					p.begin(x)
					w, conflict := way.meet(p, t.Context(), x)
					if conflict {
						conflicts, p = conflicts+1, nil
						continue
					}
					clean++
					text := everything(t, filepath.Join(w.Root, filepath.Dir(x.File())), filepath.Base(x.File()))
					if wrong := x.Wrong(o, text); wrong != "" {
						t.Errorf("%s: %s\n%s", format, wrong, x.Told(text, nil))
					}
				}
			}
			t.Logf("%d without conflict, %d in conflict", clean, conflicts)
			if clean == 0 {
				t.Error("nothing was brought together")
			}
		})
	}
}

// everything gives a file, and behind it what else is in a folder of SQL.
func everything(t *testing.T, dir, file string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, file))
	if err != nil {
		t.Fatal(err)
	}
	more, _ := filepath.Glob(filepath.Join(dir, "*.sql"))
	text := string(data)
	for _, name := range more {
		if filepath.Base(name) == file {
			continue
		}
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		text += "\n" + string(data)
	}
	return text
}
