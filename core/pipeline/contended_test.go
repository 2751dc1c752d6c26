package pipeline

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// What people of a landscape come into each other's way with: a file that all change, rules
// that not everybody may change, one environment that two change at once.

// contended is a file that all lanes change.
const contended = "files/shared.txt"

// perContents is how many acts are played in one landscape.
const perContents = 50

// tips gives the newest commit of each branch.
func (x *marked) tips() map[string]ledger.ID {
	list, err := x.w.Chest.Branches(x.t.Context())
	if err != nil {
		x.t.Fatal(err)
	}
	out := map[string]ledger.ID{}
	for _, b := range list {
		out[b.Name] = b.Tip
	}
	return out
}

// contend lets two lanes that come to one stage change what all change, and bring it there one
// after the other.
func (x *marked) contend() {
	ctx := x.t.Context()
	moves := x.m.rules(ctx).Manifest.Pipeline.Moves
	first := moves[x.r.IntN(len(moves))]
	for _, move := range moves {
		e, err := x.w.Manifest.Environment(move.From)
		other, err2 := x.w.Manifest.Environment(first.From)
		if err != nil || err2 != nil || move.To != first.To || e.Lane == other.Lane || e.Tier != manifest.Development ||
			other.Tier != manifest.Development {
			continue
		}
		for i, from := range []manifest.Environment{other, e} {
			branch := x.w.Manifest.BranchOf(from)
			x.commit(branch)
			tip := x.tip(branch)
			tree, err := x.w.TreeWith(ctx, tip.Tree, map[string][]byte{contended: []byte(from.Name + strconv.Itoa(len(x.works)) + "\n")})
			if err == nil {
				_, err = x.w.Chest.Publish(ctx, chest.Draft{Branch: branch, Tip: tip.ID, Tree: tree, Author: x.w.Person,
					Workspace: x.w.Name, Time: x.m.Now(), Message: "contended"})
			}
			if err != nil {
				x.t.Fatal(err)
			}
			x.deploy(ctx, from.Name, x.tip(branch), nil)
			way := []manifest.Move{first, move}[i]
			if !x.settlePromotion(way, PromoteOptions{AllowLoss: true, Again: true}) {
				x.promoteAlong(ctx, way, PromoteOptions{AllowLoss: true, Again: true})
			}
		}
		return
	}
}

// settlePromotion settles what is in conflict in a promotion, some of it by one person and some
// by another, and mostly carries it out then. Before that, nothing has entered any branch;
// afterwards the stage holds just what was chosen. It gives false when nothing was in conflict.
func (x *marked) settlePromotion(move manifest.Move, o PromoteOptions) bool {
	ctx := x.t.Context()
	before := x.tips()
	s, err := x.m.BeginSettling(ctx, move.From, move.To, o)
	if err != nil {
		return false
	}
	chosen, actor := map[string]string{}, x.w.Person
	x.acts["in conflict"]++
	for len(s.Open) > 0 {
		c := s.Open[0]
		if len(c.Allows) == 0 {
			x.w.Person = actor
			x.mayFail("settle", x.w.Chest.Unsettle(ctx, move.From, move.To))
			return true
		}
		x.w.Person = x.pick([]string{"Imke", "Jan"})
		keep := []element.Keep{element.KeepMine, element.KeepTheirs}[x.r.IntN(2)]
		from := s.p.onto
		if keep == element.KeepTheirs {
			from = s.p.Source
		}
		chosen[c.Address.Path] = x.text(from, c.Address.Path)
		open := len(s.Open)
		if _, err = s.Decide(ctx, []workspace.Decision{{Conflict: c, Keep: keep}}); err != nil {
			x.t.Fatal(err)
		}
		if len(s.Open) >= open {
			x.t.Fatalf("%s was settled with %s, and %d are open still: %v", c.Address, keep, len(s.Open), s.Open)
		}
	}
	x.w.Person = actor
	if x.r.IntN(8) == 0 {
		x.mayFail("settle", x.w.Chest.Unsettle(ctx, move.From, move.To))
		return true
	}
	for name, tip := range x.tips() {
		if before[name] != tip {
			x.t.Fatalf("branch %s moved while a promotion was settled", name)
		}
	}
	last := x.numberOf(move.To)
	x.promoteAlong(ctx, move, o)
	if x.numberOf(move.To) == last || o.some() {
		return true
	}
	x.acts["settled"]++
	r, _, err := x.w.Chest.Record(ctx, move.To)
	if err != nil {
		x.t.Fatal(err)
	}
	for path, want := range chosen {
		if got := x.text(r.Commit, path); got != want {
			x.t.Fatalf("%s was settled as %q, and %s holds %q", path, want, move.To, got)
		}
	}
	if all, err := x.w.Chest.PendingPromotions(ctx); err != nil ||
		slices.ContainsFunc(all, func(p ledger.Pending) bool { return p.Origin == move.From && p.Target == move.To }) {
		x.t.Fatalf("a promotion that was carried out is being settled still: %v, %v", all, err)
	}
	return true
}

func (x *marked) numberOf(env string) int64 {
	r, _, err := x.w.Chest.Record(x.t.Context(), env)
	if err != nil {
		x.t.Fatal(err)
	}
	return r.Number
}

// text reads a file of a commit; empty for none.
func (x *marked) text(c ledger.Commit, path string) string {
	data, err := state.ReadFile(x.w.CommitState(c, "x"), path)
	if err != nil {
		return ""
	}
	return string(data)
}

// rule changes on a branch who may pass gates that are shut. On main that counts when somebody
// brings it there who may.
func (x *marked) rule(branch string) {
	tip := x.tip(branch)
	text := x.text(tip, manifest.Name)
	who := x.pick([]string{`["Imke"]`, `["Imke", "Jan"]`, `["Imke", "Odalys"]`})
	i := strings.Index(text, "may-override = ")
	end := i + strings.IndexByte(text[i:], '\n')
	tree, err := x.w.TreeWith(x.t.Context(), tip.Tree,
		map[string][]byte{manifest.Name: []byte(text[:i] + "may-override = " + who + text[end:])})
	if err != nil {
		x.t.Fatal(err)
	}
	if tree == tip.Tree {
		return
	}
	_, err = x.w.Chest.Publish(x.t.Context(), chest.Draft{Branch: branch, Tip: tip.ID, Tree: tree, Author: x.w.Person, Workspace: x.w.Name,
		Time: x.m.Now(), Message: "rules"})
	x.mayFail("rule", err)
}

// checkRules holds the rules of main against those that Imke let in last.
func (x *marked) checkRules(after string) {
	x.t.Helper()
	is := x.text(x.tip(chest.FirstBranch), manifest.Name)
	if x.rules != "" && is != x.rules && x.w.Person != "Imke" {
		x.t.Fatalf("after %s: %s has changed the rules of main", after, x.w.Person)
	}
	if x.rules != "" && is != x.rules {
		x.acts["rules of main"]++
	}
	x.rules = is
}

// shared lets two people change one environment, each with a lock of their own, and capture what
// is theirs, one after the other.
func (x *marked) shared(e manifest.Environment) {
	ctx := x.t.Context()
	if _, err := os.Stat(folderOfStage(e)); err != nil {
		return
	}
	if d, err := x.m.Drift(ctx, e.Name); err != nil || len(d.Differences) > 0 || x.standing(e.Name) == (ledger.ID{}) {
		return
	}
	name := x.w.Name
	defer func() { x.w.Name = name }()
	first, item := len(x.works), "S"
	people := [][2]string{{"Imke", name}, {"Jan", "jan-desk"}}
	for i, who := range people {
		file := "files/w" + strconv.Itoa(first+i) + ".txt"
		lock := chest.TakeLocks{Wanted: []ledger.Lock{{Address: file, Holder: who[0], Workspace: who[1], Since: x.m.Now()}}, Now: x.m.Now()}
		if _, _, err := x.w.Chest.Lock(ctx, lock); err != nil {
			x.t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folderOfStage(e), filepath.Base(file)), []byte(file), 0o666); err != nil {
			x.t.Fatal(err)
		}
	}
	for i, who := range people {
		file := "files/w" + strconv.Itoa(first+i) + ".txt"
		x.w.Person, x.w.Name = who[0], who[1]
		c, err := x.m.Capture(ctx, e.Name, CaptureOptions{Mine: true, Commit: true, Message: "mine", Item: item})
		x.mayFail("capture mine", err)
		if err != nil || !c.Recorded {
			var errs []error
			for k := i; k < len(people); k++ {
				errs = append(errs, os.Remove(filepath.Join(folderOfStage(e), "w"+strconv.Itoa(first+k)+".txt")))
			}
			x.free(first, people)
			if err := errors.Join(errs...); err != nil {
				x.t.Fatal(err)
			}
			return
		}
		x.note(file, item, c.Commit.ID)
		x.check("a capture of what is " + who[0] + "'s")
	}
	x.free(first, people)
}

// free gives back the locks on the files of works from a number on.
func (x *marked) free(first int, people [][2]string) {
	for i, who := range people {
		_, err := x.w.Chest.Unlock(x.t.Context(), chest.FreeLocks{Addresses: []string{"files/w" + strconv.Itoa(first+i) + ".txt"},
			Holder: who[0], Workspace: who[1]})
		if err != nil {
			x.t.Fatal(err)
		}
	}
}
