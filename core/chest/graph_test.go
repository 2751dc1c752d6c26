package chest_test

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"oakenchest/core/ledger"
)

// TestMergeBasesAgainstTheWholeGraph builds random histories of branches that merge each
// other crosswise, and holds the nearest common commits of every two tips against a search
// of the whole graph.
func TestMergeBasesAgainstTheWholeGraph(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	several := 0
	for round := range 8 {
		c := create(t)
		above := map[ledger.ID]map[ledger.ID]bool{}
		add := func(branch string, tip, merged ledger.ID, n int) ledger.Commit {
			k := record(t, c, branch, tip, merged, map[string]string{"f": fmt.Sprint(round, branch, n)})
			set := map[ledger.ID]bool{k.ID: true}
			maps.Copy(set, above[tip])
			maps.Copy(set, above[merged])
			above[k.ID] = set
			return k
		}
		first := add("main", ledger.ID{}, ledger.ID{}, 0)
		tips := map[string]ledger.Commit{"main": first}
		for n := range 4 {
			name := fmt.Sprint("b", n)
			if err := c.AddBranch(t.Context(), ledger.Branch{Name: name, Tip: first.ID, Author: "Imke", Time: noon}); err != nil {
				t.Fatal(err)
			}
			tips[name] = first
		}
		names := slices.Sorted(maps.Keys(tips))
		for n := range 40 {
			a, b := names[r.IntN(len(names))], names[r.IntN(len(names))]
			merged := ledger.ID{}
			if r.IntN(3) == 0 && !above[tips[a].ID][tips[b].ID] {
				merged = tips[b].ID
			}
			tips[a] = add(a, tips[a].ID, merged, n+1)
		}
		for _, a := range names {
			for _, b := range names {
				got, err := c.MergeBases(t.Context(), tips[a], tips[b])
				if err != nil {
					t.Fatal(err)
				}
				want := nearest(above, tips[a].ID, tips[b].ID)
				if len(want) > 1 {
					several++
				}
				ids := make([]ledger.ID, len(got))
				for i, k := range got {
					ids[i] = k.ID
				}
				if !slices.Equal(ids, want) {
					t.Fatalf("round %d: %s and %s: %v, want %v", round, a, b, ids, want)
				}
			}
		}
	}
	if several == 0 {
		t.Error("no two branches were merged crosswise")
	}
}

// nearest gives the common ancestors that no other common one stands on, by id.
func nearest(above map[ledger.ID]map[ledger.ID]bool, a, b ledger.ID) []ledger.ID {
	var common, out []ledger.ID
	for id := range above[a] {
		if above[b][id] {
			common = append(common, id)
		}
	}
	for _, id := range common {
		if !slices.ContainsFunc(common, func(o ledger.ID) bool { return o != id && above[o][id] }) {
			out = append(out, id)
		}
	}
	slices.SortFunc(out, func(p, q ledger.ID) int { return bytes.Compare(p[:], q[:]) })
	return out
}
