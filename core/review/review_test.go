package review

import (
	"context"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/fault"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
)

// table is a project without a folder, with a desk for each person.
type table struct {
	t     *testing.T
	chest *chest.Chest
	tips  map[string]ledger.Commit
	now   time.Time
}

const rules = `
[[review.path]]
match = "apps/**"
from = ["Ravi"]

[review]
approvals = 1
`

func sit(t *testing.T) *table {
	t.Helper()
	s := &table{t: t, chest: chesttest.New(t, "Imke"), tips: map[string]ledger.Commit{}, now: time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)}
	s.commit("main", map[string]string{"oaken.toml": "project = \"reef\"\n" + rules, "notes/opening.txt": "one\ntwo\n"})
	if err := s.chest.AddBranch(t.Context(), ledger.Branch{Name: "kelp", Tip: s.tips["main"].ID, Origin: "main", Author: "Imke",
		Time: s.now}); err != nil {
		t.Fatal(err)
	}
	s.tips["kelp"] = s.tips["main"]
	s.commit("kelp", map[string]string{"apps/rounds.txt": "rounds\n"})
	return s
}

// desk is where a person reviews, from a place of its own.
func (s *table) desk(person string) *Desk {
	s.t.Helper()
	who := chest.Actor{Person: person, Workspace: strings.ToLower(person) + "-desk"}
	p, err := project.New(s.t.Context(), s.chest, all.Table(), who, func() time.Time { return s.now })
	if err != nil {
		s.t.Fatal(err)
	}
	return &Desk{Project: p, Now: func() time.Time { s.now = s.now.Add(time.Minute); return s.now }}
}

func (s *table) commit(branch string, files map[string]string) {
	s.t.Helper()
	data := map[string][]byte{}
	for name, text := range files {
		data[name] = []byte(text)
	}
	c, err := s.desk("Imke").Project.CommitFiles(s.t.Context(), branch, s.tips[branch], data,
		strings.Join(slices.Sorted(maps.Keys(files)), " "))
	if err != nil {
		s.t.Fatal(err)
	}
	s.tips[branch] = c
}

func (s *table) refused(code fault.Code, says string, err error) {
	s.t.Helper()
	if err == nil || fault.CodeOf(err) != code || !strings.Contains(err.Error(), says) {
		s.t.Errorf("%v, where %s with %q was expected", err, code, says)
	}
}

// TestALifeOfAReview opens a review, and merges it when the rules have what they ask for: by somebody else, by whom
// the path asks for, and for the branch as it is now.
func TestALifeOfAReview(t *testing.T) {
	s := sit(t)
	ctx := t.Context()
	imke, ravi, tarek := s.desk("Imke"), s.desk("Ravi"), s.desk("Tarek")
	_, err := imke.Open(ctx, Draft{Source: "main", Title: "x"})
	s.refused(fault.Usage, "both are main", err)
	_, err = imke.Open(ctx, Draft{Source: "kelp"})
	s.refused(fault.Usage, "needs a title", err)
	r, err := imke.Open(ctx, Draft{Source: "kelp", Title: "The rounds"})
	if err != nil || r.Number != 1 || !slices.Equal(r.Paths, []string{"apps/rounds.txt"}) || r.Standing() != "open" {
		t.Fatalf("%+v, %v", r, err)
	}
	_, err = tarek.Open(ctx, Draft{Source: "kelp", Title: "Again"})
	s.refused(fault.Usage, "open already", err)
	s.refused(fault.Refused, "your own", imke.Approve(ctx, 1, ""))
	s.refused(fault.Usage, "needs a reason", tarek.Decline(ctx, 1, " "))
	s.refused(fault.Usage, "There is no apps/none.txt", tarek.Comment(ctx, 1, "apps/none.txt", "hm"))
	s.refused(fault.Refused, "Only Imke", tarek.Withdraw(ctx, 1))
	s.stands("open")
	s.must(tarek.Comment(ctx, 1, "apps/rounds.txt::line:#1", "Who walks them?"))
	s.must(tarek.Approve(ctx, 1, ""))
	s.stands("open") // the path asks for Ravi
	_, _, err = tarek.Merge(ctx, 1, "", nil)
	s.refused(fault.Refused, "1 more approval of Ravi", err)
	s.must(ravi.Decline(ctx, 1, "Not before spring."))
	s.stands("declined")
	s.must(ravi.Approve(ctx, 1, "It is spring."))
	s.stands("ready")
	s.commit("kelp", map[string]string{"apps/rounds.txt": "rounds\nand more\n"})
	s.stands("open again") // what was approved was another state of it
	_, _, err = imke.Merge(ctx, 1, "", nil)
	s.refused(fault.Refused, "can't be merged yet", err)
	s.must(ravi.Approve(ctx, 1, ""))
	s.must(tarek.Approve(ctx, 1, ""))
	done, arrived, err := ravi.Merge(ctx, 1, "", nil)
	if err != nil || done.Standing() != "merged" || done.Outcome != arrived.Commit.ID || arrived.Commit.Branch != "main" ||
		arrived.Commit.Message != "The rounds" {
		t.Fatalf("%+v, %+v, %v", done, arrived, err)
	}
	_, _, err = ravi.Merge(ctx, 1, "", nil)
	s.refused(fault.Refused, "is merged", err)
	s.refused(fault.Refused, "is merged", tarek.Comment(ctx, 1, "", "late"))
	told, _, err := s.chest.Notices(ctx, "imke-desk")
	if err != nil || len(told) < 4 || !strings.Contains(told[len(told)-1].Text, "merged your review") {
		t.Errorf("Imke is told %v, %v", told, err)
	}
	if open, err := imke.List(ctx, true); err != nil || len(open) != 0 {
		t.Errorf("%d are open, %v", len(open), err)
	}
}

// TestAReviewThatDoesNotMerge changes the same line on both sides: the conflict stands in the review, no approval opens
// it, and the work of the branch can't loosen the rules that it is under.
func TestAReviewThatDoesNotMerge(t *testing.T) {
	s := sit(t)
	ctx := t.Context()
	s.commit("kelp", map[string]string{"notes/opening.txt": "one of kelp\ntwo\n", "oaken.toml": "project = \"reef\"\n"})
	s.commit("main", map[string]string{"notes/opening.txt": "one of main\ntwo\n"})
	imke, ravi := s.desk("Imke"), s.desk("Ravi")
	r, err := imke.Open(ctx, Draft{Source: "kelp", Title: "Both"})
	if err != nil || len(r.Conflicts) != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	s.must(ravi.Approve(ctx, 1, ""))
	s.stands("open")
	_, _, err = ravi.Merge(ctx, 1, "", nil)
	s.refused(fault.Conflict, "does not merge", err)
	s.refused(fault.Refused, "your own", imke.Approve(ctx, 1, "")) // kelp's oaken.toml asks for nothing, main's does
	s.must(imke.Withdraw(ctx, 1))
	s.refused(fault.Refused, "is withdrawn", ravi.Approve(ctx, 1, ""))
}

func (s *table) must(err error) {
	s.t.Helper()
	if err != nil {
		s.t.Fatal(err)
	}
}

func (s *table) stands(want string) {
	s.t.Helper()
	r, err := s.desk("Odalys").Show(context.Background(), 1)
	if err != nil || r.Standing() != want {
		s.t.Errorf("the review is %s, not %s: %v, %v", r.Standing(), want, r.Missing, err)
	}
}
