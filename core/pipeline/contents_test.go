package pipeline

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"oakenchest/core/arrival"
	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
)

// Here every work is a file of its own, so that the contents say which work is where: what
// the records say of environments and branches is held against the files that are there.

// marked is a world in which every work has a file.
type marked struct {
	*world
	works []markedWork
	rules string // those that guard, as Imke had them last
}

type markedWork struct {
	file, item string
	commit     ledger.ID
}

func (x *marked) next() string { return fmt.Sprintf("files/w%d.txt", len(x.works)) }

func (x *marked) note(file, item string, c ledger.ID) {
	x.works = append(x.works, markedWork{file, item, c})
}

// commit records a new work on a branch.
func (x *marked) commit(branch string) {
	ctx := x.t.Context()
	tip := x.tip(branch)
	file, item := x.next(), fmt.Sprintf("I-%d", len(x.works)/2)
	files := map[string][]byte{file: []byte(file)}
	if x.r.IntN(2) == 0 {
		files[contended] = []byte(file + "\n")
	}
	tree, err := x.w.TreeWith(ctx, tip.Tree, files)
	if err != nil {
		x.t.Fatal(err)
	}
	c, err := x.w.Chest.Publish(ctx, chest.Draft{Branch: branch, Tip: tip.ID, Tree: tree, Author: "Imke", Workspace: x.w.Name,
		Time: x.m.Now(), Message: "x", Item: item})
	if err != nil {
		x.t.Fatal(err)
	}
	x.note(file, item, c.ID)
	x.acts["commit"]++
}

func folderOfStage(e manifest.Environment) string { return strings.TrimPrefix(e.Target, "folder:") }

// capture makes a new work in an environment, by hand, and captures that.
func (x *marked) capture(e manifest.Environment) {
	ctx := x.t.Context()
	if _, err := os.Stat(folderOfStage(e)); err != nil {
		return
	}
	if d, err := x.m.Drift(ctx, e.Name); err != nil || len(d.Differences) > 0 {
		return // killed halfway, or changed by hand before
	}
	file, item := x.next(), fmt.Sprintf("I-%d", len(x.works)/2)
	on := filepath.Join(folderOfStage(e), filepath.Base(file))
	if err := os.WriteFile(on, []byte(file), 0o666); err != nil {
		x.t.Fatal(err)
	}
	if x.r.IntN(6) == 0 {
		c, err := x.m.KeepDrift(ctx, e.Name, fmt.Sprintf("hand%d", len(x.works)), "by hand")
		x.mayFail("keep drift", err)
		if err == nil {
			x.note(file, "", c.ID)
			return
		}
	}
	c, err := x.m.Capture(ctx, e.Name, CaptureOptions{Commit: true, Message: "x", Item: item})
	x.mayFail("capture", err)
	if err == nil && c.Recorded {
		x.note(file, item, c.Commit.ID)
		return
	}
	if err := os.Remove(on); err != nil {
		x.t.Fatal(err)
	}
}

// refresh brings a copy of what one environment holds into another, and captures that.
func (x *marked) refresh(from, to manifest.Environment) {
	ctx := x.t.Context()
	was, known, err := x.w.Chest.Record(ctx, from.Name)
	if err != nil || !known || from.Name == to.Name || x.standing(to.Name) == (ledger.ID{}) || len(from.Also) != len(to.Also) {
		return
	}
	if d, err := x.m.Drift(ctx, from.Name); err != nil || len(d.Differences) > 0 {
		return // killed halfway
	}
	for i, s := range from.Sites() {
		a, b := strings.TrimPrefix(s.Target, "folder:"), strings.TrimPrefix(to.Sites()[i].Target, "folder:")
		if _, err := os.Stat(a); err != nil {
			return
		}
		if err := errors.Join(os.RemoveAll(b), os.CopyFS(b, os.DirFS(a))); err != nil {
			x.t.Fatal(err)
		}
	}
	_, err = x.m.Capture(ctx, to.Name, CaptureOptions{Commit: true, Message: "x"})
	if fault.CodeOf(err) == fault.Refused {
		x.acts["refused"]++
		_, err = x.m.Capture(ctx, to.Name, CaptureOptions{Commit: true, Message: "x", StoodOn: &was.Commit})
	}
	x.mayFail("refresh", err)
}

func (x *marked) withdraw(e manifest.Environment) {
	if len(x.works) == 0 {
		return
	}
	item := x.works[x.r.IntN(len(x.works))].item
	d, err := x.m.PrepareWithdrawal(x.t.Context(), e.Name, WithdrawOptions{Item: item, WithDependents: true})
	if err != nil {
		x.mayFail("withdraw", err)
		return
	}
	defer d.Close()
	x.mayFail("withdraw", x.m.Withdraw(x.t.Context(), d, DeployOptions{AllowLoss: true}))
}

func (x *marked) promote() {
	moves := x.m.rules(x.t.Context()).Manifest.Pipeline.Moves
	o := PromoteOptions{AllowLoss: true, Again: x.r.IntN(2) == 0}
	if x.r.IntN(3) == 0 && len(x.works) > 0 {
		o.Paths, o.WithNeeded = []string{x.works[x.r.IntN(len(x.works))].file}, true
	}
	move := moves[x.r.IntN(len(moves))]
	if x.r.IntN(3) > 0 && x.settlePromotion(move, o) {
		return
	}
	x.promoteAlong(x.t.Context(), move, o)
}

// play does one thing by chance.
func (x *marked) play() string {
	ctx := x.t.Context()
	x.w.Person = x.pick([]string{"Imke", "Imke", "Jan"})
	switch n := x.r.IntN(29); {
	case n > 26:
		x.contend()
		return "contend"
	case n > 25:
		x.shared(x.environment())
		return "shared"
	case n > 23:
		x.rule(x.pick(x.lanes))
		return "rule"
	case n < 5:
		x.commit(x.pick(x.lanes))
		return "commit"
	case n < 8:
		x.capture(x.environment())
		return "capture"
	case n < 11:
		members := x.m.rules(ctx).Members(x.pick(x.lanes))
		e := members[x.r.IntN(len(members))]
		x.deploy(ctx, e.Name, x.tip(x.w.Manifest.BranchOf(e)), nil)
		return "deploy " + e.Name
	case n < 17:
		x.promote()
		return "promote"
	case n < 18:
		x.rollback(x.environment().Name)
		return "rollback"
	case n < 19:
		x.withdraw(x.environment())
		return "withdraw"
	case n < 20:
		x.settleMerge(x.pick(x.lanes), x.pick(x.lanes))
		return "merge"
	case n < 21:
		x.refresh(x.environment(), x.environment())
		return "refresh"
	}
	x.backfill(x.pick(x.lanes))
	return "backfill"
}

// filesOf lists the files of works in a commit.
func (x *marked) filesOf(c ledger.Commit) map[string]bool {
	out := map[string]bool{}
	list, err := x.w.Chest.Files(c.Tree)
	if err != nil {
		x.t.Fatal(err)
	}
	for _, f := range list {
		if strings.HasPrefix(f.Path, "files/w") {
			out[f.Path] = true
		}
	}
	return out
}

// check holds what records say against the contents.
func (x *marked) check(after string) {
	x.t.Helper()
	ctx := x.t.Context()
	holds := map[string]map[string]bool{}
	commits := map[string]ledger.Commit{}
	for _, e := range x.w.Manifest.Environments {
		if r, known, err := x.w.Chest.Record(ctx, e.Name); err != nil {
			x.t.Fatal(err)
		} else if known {
			commits["env:"+e.Name] = r.Commit
			holds[e.Name] = x.filesOf(r.Commit)
			x.checkHolds(after, e)
		}
	}
	branches, err := x.w.Chest.Branches(ctx)
	if err != nil {
		x.t.Fatal(err)
	}
	for _, b := range branches {
		commits[b.Name] = x.tip(b.Name)
	}
	works := make([]ledger.Commit, len(x.works))
	for i, w := range x.works {
		if works[i], err = x.w.Chest.Commit(ctx, w.commit); err != nil {
			x.t.Fatal(err)
		}
	}
	if os.Getenv("OAKEN_TELL") != "" {
		line := after + ":"
		for _, name := range slices.Sorted(maps.Keys(commits)) {
			line += fmt.Sprintf(" %s=%s%v", name, label(commits[name]), sortedKeys(x.filesOf(commits[name])))
		}
		x.t.Log(line)
	}
	err = arrival.View(ctx, x.w.Chest, func(r *arrival.Reader) error {
		for name, c := range commits {
			has := map[string]bool{}
			for i, w := range x.works {
				if r.Has(c, works[i]) {
					has[w.file] = true
				}
			}
			if is := x.filesOf(c); !maps.Equal(has, is) {
				return fmt.Errorf("after %s, %s (%s): the records say %v, the files are %v", after, name, label(c), sortedKeys(has),
					sortedKeys(is))
			}
		}
		return nil
	})
	if err != nil {
		x.t.Fatal(err, x.w.Root, x.history())
	}
	x.checkOwed(ctx, after, holds)
	x.checkRules(after)
}

// history writes down every commit: what it stands on, takes back and holds.
func (x *marked) history() string {
	takes := map[ledger.ID]int{}
	_ = x.w.Chest.View(x.t.Context(), func(tx ledger.Records) error {
		list, err := tx.Takings()
		for _, t := range list {
			takes[t.Commit]++
		}
		return err
	})
	g, out := x.readGraph(), "\n"
	for _, c := range slices.SortedFunc(maps.Values(g.commits), ledger.Older) {
		out += label(c) + " on"
		for _, p := range c.Parents {
			out += " " + label(g.commits[p])
		}
		if root := g.root[c.ID]; root != c.ID {
			out += " picks " + label(g.commits[root])
		}
		if n := takes[c.ID]; n > 0 {
			out += fmt.Sprintf(" takes %d back", n)
		}
		out += fmt.Sprintf(" %v\n", sortedKeys(x.filesOf(c)))
	}
	return out
}

func sortedKeys(m map[string]bool) []string { return slices.Sorted(maps.Keys(m)) }

// checkOwed computes from the contents alone what is owed.
func (x *marked) checkOwed(ctx context.Context, after string, holds map[string]map[string]bool) {
	x.t.Helper()
	debts, err := x.m.Owed(ctx)
	if err != nil {
		x.t.Fatal(err)
	}
	absences, err := x.w.Chest.Absences(ctx)
	if err != nil {
		x.t.Fatal(err)
	}
	fileOf := map[ledger.ID]string{}
	for _, w := range x.works {
		fileOf[w.commit] = w.file
	}
	g := x.readGraph()
	m := x.w.Manifest
	for _, e := range m.Environments {
		own, known := holds[e.Name]
		if tip := x.tip(m.BranchOf(e)); !known && tip.Depth == 0 {
			continue // nothing is known of it
		} else if !known {
			own = x.filesOf(tip)
		}
		want := map[string]bool{}
		for _, later := range m.Environments {
			if later.Name != e.Name && reachable(m.Pipeline.Moves, e.Name, later.Name, map[string]bool{}) {
				maps.Copy(want, holds[later.Name])
			}
		}
		maps.DeleteFunc(want, func(file string, _ bool) bool { return own[file] })
		for _, a := range absences[e.Name] {
			delete(want, fileOf[g.root[a.Work]])
		}
		got := map[string]bool{}
		for _, d := range debts {
			if d.Environment == e.Name {
				for _, work := range d.Works {
					if file := fileOf[g.root[work.ID]]; file != "" {
						got[file] = true
					}
				}
			}
		}
		if !maps.Equal(got, want) {
			all, _ := x.w.Chest.Deployments(ctx, e.Name)
			told := ""
			for _, d := range all {
				told += fmt.Sprintf("  %d %s %s undone %v\n", d.Number, label(d.Commit), d.Source, d.Undone != nil)
			}
			x.t.Fatalf("after %s: %s is owed %v, the contents say %v; it holds %v\n%s%v\n%s%s", after, e.Name, sortedKeys(got),
				sortedKeys(want), sortedKeys(own), told, absences[e.Name], x.w.Root, x.history())
		}
	}
}

// TestContentsSayWhatIsThere plays; OAKEN_CONTENTS says how many landscapes, OAKEN_SEED the
// first.
func TestContentsSayWhatIsThere(t *testing.T) {
	rounds, first := 6, rand.Uint64()
	if n, err := strconv.Atoi(os.Getenv("OAKEN_CONTENTS")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		first = n
	}
	total := map[string]int{}
	for i := range rounds {
		seed := first + uint64(i)
		t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
			x := &marked{world: newWorld(t, seed)}
			x.check("the beginning")
			for n := range perContents {
				after := x.play()
				x.check(fmt.Sprint("act ", n, ", ", after))
			}
			for k, v := range x.acts {
				total[k] += v
			}
		})
	}
	t.Logf("%d landscapes: %v", rounds, total)
}

// TestUnreadableRulesOpenNothing has rules on the first branch that this program can't read,
// as a newer one may have written them: nobody can tell what they let pass.
func TestUnreadableRulesOpenNothing(t *testing.T) {
	x, ctx := newWorld(t, 5), t.Context()
	move := x.w.Manifest.Pipeline.Moves[0]
	for _, name := range []string{move.From, move.To} {
		if x.standing(name) == (ledger.ID{}) {
			x.deploy(ctx, name, x.w.Base, nil)
		}
	}
	x.record("main", map[string][]byte{"oaken.toml": []byte("project = \n")})
	if p, err := x.m.PreparePromotion(ctx, move.From, move.To, PromoteOptions{}); err == nil {
		if !slices.ContainsFunc(p.shut(), func(g GateResult) bool { return strings.Contains(g.Said, "the rules can't be read") }) {
			t.Errorf("the gates: %+v", p.Gates)
		}
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	} else if fault.CodeOf(err) != fault.Refused {
		t.Error(err)
	}
	dev := x.lanes[0] + "-dev0"
	d, err := x.m.Prepare(ctx, dev, x.tip(x.lanes[0]), false)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if err := x.m.Deploy(ctx, d, DeployOptions{AllowLoss: true, ReplaceDrift: true}); fault.CodeOf(err) != fault.Refused ||
		!strings.Contains(err.Error(), "can't be read there") {
		t.Errorf("a deployment: %v", err)
	}
}
