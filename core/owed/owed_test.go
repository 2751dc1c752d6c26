package owed

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/landscape"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
	"oakenchest/core/manifest"
)

// wide writes the declaration of a landscape with many lanes: each has a development
// environment, every second one an integration environment of its own, and all meet in
// shared stages.
func wide(lanes int) string {
	var b, moves strings.Builder
	b.WriteString("project = \"x\"\n")
	n := 0
	env := func(name, tier, lane, branch string) {
		n++
		fmt.Fprintf(&b, "[[environment]]\nname = %q\ntarget = \"folder:%s\"\ninto = \"files\"\ntier = %q\nlane = %q\nbranch = %q\n", name,
			name, tier, lane, branch)
	}
	move := func(from, to string) {
		fmt.Fprintf(&moves, "[[pipeline.move]]\nfrom = %q\nto = %q\n", from, to)
	}
	for i := range lanes {
		lane := fmt.Sprintf("lane%d", i)
		fmt.Fprintf(&moves, "[[pipeline.lane]]\nname = %q\nbranch = %q\n", lane, lane)
		env(lane+"-dev", "development", lane, "")
		last := lane + "-dev"
		if i%2 == 0 {
			env(lane+"-int", "integration", lane, "")
			move(last, lane+"-int")
			last = lane + "-int"
		}
		move(last, "integration")
	}
	last := ""
	for i := 0; n < 30 || i < 5; i++ {
		name, tier := fmt.Sprintf("stage%d", i), "acceptance"
		switch {
		case i == 0:
			name, tier = "integration", "integration"
		case i == 1:
			name, tier = "test", "test"
		case n == 29:
			name, tier = "live", "live"
		}
		env(name, tier, "", "main")
		if last != "" {
			move(last, name)
		}
		last = name
	}
	return b.String() + moves.String()
}

// history is a chest with so many commits: lanes that work, merge into main and back, and
// deployments all the while; in 5,000 places what was captured in a database lies on a line
// beside its lane. Some works are taken back on main.
func history(tb testing.TB, lanes, commits, takings int) (*chest.Chest, *landscape.Landscape) {
	tb.Helper()
	m, err := manifest.Parse([]byte(wide(lanes)))
	if err != nil {
		tb.Fatal(err)
	}
	now := time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	dir := filepath.Join(tb.TempDir(), "chest")
	r := rand.New(rand.NewPCG(4, 4))
	err = chesttest.Fill(tb.Context(), dir, func(tx *tables.Tx) error {
		tips := map[string]ledger.Commit{}
		add := func(branch string, merged ledger.Commit) error {
			tip := tips[branch]
			now = now.Add(time.Minute)
			next := ledger.Commit{Branch: branch, Depth: tip.Depth + 1, Generation: tip.Generation + 1, Author: "Imke", Workspace: "w",
				Time: now, Message: "A change of something that somebody wanted", Item: fmt.Sprintf("AQ-%d", r.IntN(4000))}
			if tip.Depth > 0 {
				next.Parents = []ledger.ID{tip.ID}
			}
			if merged.Depth > 0 {
				next.Parents = append(next.Parents, merged.ID)
				next.Generation = max(next.Generation, merged.Generation+1)
			}
			next.Seal()
			tips[branch] = next
			return errors.Join(tx.AddCommit(next), tx.AddTouches(next.ID, nil))
		}
		if err := add("main", ledger.Commit{}); err != nil {
			return err
		}
		for i := range lanes {
			tips[fmt.Sprintf("lane%d", i)] = tips["main"]
		}
		for n := 0; n < commits; n++ {
			lane := fmt.Sprintf("lane%d", r.IntN(lanes))
			var err error
			switch r.IntN(40) {
			case 0:
				err = add("main", tips[lane])
			case 1:
				if r.IntN(6) == 0 {
					err = add(lane, tips["main"])
				}
			default:
				err = add(lane, ledger.Commit{})
			}
			if err == nil && n%max(commits/5000, 15) == 0 {
				line := fmt.Sprintf("%s%s-dev/%d", ledger.LinePrefix, lane, n)
				tips[line] = tips[lane]
				err = errors.Join(add(line, ledger.Commit{}), add(lane, ledger.Commit{}), add(lane, tips[line]))
			}
			if err == nil && takings > 0 && n%(commits/takings) == 0 {
				work := tips[lane]
				if err = add("main", tips[lane]); err == nil {
					err = add("main", ledger.Commit{})
				}
				if err == nil {
					err = tx.AddTaking(tips["main"].ID, work.ID)
				}
			}
			if err != nil {
				return err
			}
			if n%(commits/1500+1) == 0 {
				e := m.Environments[r.IntN(len(m.Environments))]
				_, err = tx.AddDeployment(ledger.Deployment{Environment: e.Name, Commit: tips[m.BranchOf(e)].ID, Author: "Imke",
					Time: now, Source: "x"})
			}
			if err != nil {
				return err
			}
		}
		for name, tip := range tips {
			if err := tx.AddBranch(ledger.Branch{Name: name, Author: "Imke", Time: now}); name != "main" && err != nil {
				return err
			}
			if err := tx.MoveTip(name, ledger.ID{}, tip.ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		tb.Fatal(err)
	}
	return chesttest.Open(tb, dir), landscape.Of(m)
}

// TestWhatIsOwedAgreesWithASearch holds it against walking the whole graph.
func TestWhatIsOwedAgreesWithASearch(t *testing.T) {
	c, l := history(t, 5, 3000, 0)
	err := View(t.Context(), c, l, func(b *Book) error {
		all, err := b.All()
		if err != nil {
			return err
		}
		got := map[string][]string{}
		for _, d := range all {
			for _, w := range d.Works {
				got[d.Environment] = append(got[d.Environment], w.ID.String())
				if w.Since.IsZero() || w.Where == "" {
					t.Errorf("%s: of %s it is not said since when, or where", d.Environment, w.ID.Short())
				}
			}
			slices.Sort(got[d.Environment])
		}
		commits, err := b.tx.Commits()
		if err != nil {
			return err
		}
		under := map[ledger.ID]map[ledger.ID]bool{}
		works := map[ledger.ID]bool{}
		for _, x := range commits {
			under[x.ID] = map[ledger.ID]bool{x.ID: true}
			works[x.ID] = len(x.Parents) < 2
			for _, p := range x.Parents {
				for id := range under[p] {
					under[x.ID][id] = true
				}
			}
		}
		for _, e := range l.Staged() {
			has, _ := b.Has(e)
			want := map[string]bool{}
			for _, later := range l.Later(e.Name) {
				for id := range under[b.Standing[later.Name].ID] {
					if works[id] && !under[has.ID][id] {
						want[id.String()] = true
					}
				}
			}
			if len(want) != len(got[e.Name]) {
				t.Errorf("%s is owed %d, a search finds %d", e.Name, len(got[e.Name]), len(want))
			}
			for _, id := range got[e.Name] {
				if !want[id] {
					t.Errorf("%s is owed %s, and a search does not find it", e.Name, id)
				}
			}
		}
		if len(got) < 3 {
			t.Errorf("only %d environments are owed something: the history shows little", len(got))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// BenchmarkOwed is what 30 environments of 12 lanes are owed in 100,000 commits, beside
// reading all commits once; bench/owed gives the ratio. Among them are 5,000 lines, and 200 works
// that were taken back.
func BenchmarkOwed(b *testing.B) {
	c, l := history(b, 12, 85000, 200)
	b.Run("graph", func(b *testing.B) {
		for b.Loop() {
			err := c.View(b.Context(), func(tx ledger.Records) error {
				all, err := tx.Commits()
				if len(all) < 90000 {
					b.Errorf("%d commits", len(all))
				}
				return err
			})
			if err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("owed", func(b *testing.B) {
		n := 0
		for b.Loop() {
			n = 0
			err := View(b.Context(), c, l, func(book *Book) error {
				all, err := book.All()
				for _, d := range all {
					n += len(d.Works)
				}
				return err
			})
			if err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(n), "owed")
		b.ReportMetric(float64(len(l.Staged())), "environments")
	})
}
