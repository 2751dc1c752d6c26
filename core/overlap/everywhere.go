package overlap

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// claim is one side's version of an artifact: that of a branch, or an edit.
type claim struct {
	branch  string
	tip     ledger.Commit  // zero for an edit
	base    content.Digest // the tree that the branch parted from
	is      chest.File
	edit    ledger.Edit
	editing ledger.Workspace
}

func (c claim) isEdit() bool { return c.edit.Workspace != "" }

func (c claim) side() Side {
	if c.isEdit() {
		t := decode(c.edit.Told)
		return Side{Branch: c.branch, Workspace: c.edit.Workspace, Person: c.editing.Person, Time: c.edit.Since,
			Gone: c.edit.State == "gone", Told: t.Changes, More: t.More}
	}
	return Side{Branch: c.branch, Person: c.tip.Author, Time: c.tip.Time, State: Label(c.tip), Gone: c.is.Mode == 0}
}

// survey is the work of everybody, by artifact.
type survey struct {
	f *Finder
	standing
	claims map[string][]claim
	since  map[[2]content.Digest]map[string]bool // the artifacts that differ between two trees
}

// Everywhere lists what several branches and workspaces have changed since they parted,
// the worst first. What was done, and whether it would merge, is told of the first `look`
// ones, by the number of their sides. paths narrows the list; none means all.
//
// The work of a branch is what it has otherwise than the first branch had when the two
// parted. The time is near linear in the number of paths that branches have changed.
func (f *Finder) Everywhere(ctx context.Context, paths []string, look int) ([]Overlap, error) {
	s := &survey{f: f, claims: map[string][]claim{}, since: map[[2]content.Digest]map[string]bool{}}
	var err error
	if s.standing, err = f.standing(ctx); err != nil {
		return nil, err
	}
	if err := s.collect(); err != nil {
		return nil, err
	}
	var out []Overlap
	at := map[string][]claim{}
	for p, all := range s.claims {
		if !state.Under(paths, p) {
			continue
		}
		apart, err := s.apart(p, all)
		if err != nil {
			return nil, err
		}
		if len(apart) < 2 {
			continue
		}
		o := Overlap{Path: p, Verdict: Unknown}
		for _, c := range apart {
			o.Sides = append(o.Sides, c.side())
		}
		out, at[p] = append(out, o), apart
	}
	sortWorst(out)
	for i := range out[:min(look, len(out))] {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := s.look(ctx, &out[i], at[out[i].Path]); err != nil {
			return nil, err
		}
	}
	sortWorst(out)
	return out, nil
}

// collect gathers what each branch has changed since it parted from the trunk, what the
// trunk has changed since, and what is edited.
func (s *survey) collect() error {
	for _, name := range s.branches {
		tip, base := s.tips[name], s.parted[name]
		mine, err := s.changed(base, tip.Tree)
		if err != nil {
			return err
		}
		trunk, err := s.changed(base, s.trunk.Tree)
		if err != nil {
			return err
		}
		for p := range mine {
			if err := s.claim(p, name, base); err != nil {
				return err
			}
			if trunk[p] {
				if err := s.claim(p, chest.FirstBranch, base); err != nil {
					return err
				}
			}
		}
	}
	for _, e := range s.crowd.Edits {
		w := s.crowd.Workspaces[e.Workspace]
		s.claims[e.Path] = append(s.claims[e.Path], claim{branch: w.Branch, edit: e, editing: w})
		for _, branch := range []string{w.Branch, chest.FirstBranch} { // what came in since
			base, behind := s.behind[[2]string{w.Name, branch}]
			if !behind {
				continue
			}
			since, err := s.changed(base, s.tips[branch].Tree)
			if err != nil {
				return err
			}
			if since[e.Path] {
				if err := s.claim(e.Path, branch, base); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// claim notes that a branch has a version of its own of an artifact.
func (s *survey) claim(p, branch string, base content.Digest) error {
	if slices.ContainsFunc(s.claims[p], func(c claim) bool { return c.branch == branch && !c.isEdit() }) {
		return nil
	}
	tip := s.tips[branch]
	is, err := s.f.Chest.At(tip.Tree, p)
	s.claims[p] = append(s.claims[p], claim{branch: branch, tip: tip, base: base, is: is})
	return chest.Explain(err)
}

// changed lists the artifacts that differ between two trees.
func (s *survey) changed(from, to content.Digest) (map[string]bool, error) {
	key := [2]content.Digest{from, to}
	if known, ok := s.since[key]; ok {
		return known, nil
	}
	pairs, err := s.f.Chest.Diff(from, to)
	out := make(map[string]bool, len(pairs))
	for _, p := range pairs {
		out[s.f.Reader.Unit(p.Path)] = true
	}
	s.since[key] = out
	return out, chest.Explain(err)
}

// apart gives the claims that are at odds with another one.
func (s *survey) apart(p string, all []claim) ([]claim, error) {
	odd := make([]bool, len(all))
	for i, a := range all {
		for k, b := range all[:i] {
			if odd[i] && odd[k] {
				continue
			}
			odds, err := s.atOdds(p, a, b)
			if err != nil {
				return nil, err
			}
			odd[i], odd[k] = odd[i] || odds, odd[k] || odds
		}
	}
	var out []claim
	for i, a := range all {
		if odd[i] {
			out = append(out, a)
		}
	}
	return out, nil
}

// atOdds reports whether two sides have something else, and each has changed it since the
// two parted.
func (s *survey) atOdds(p string, a, b claim) (bool, error) {
	switch {
	case a.isEdit() && b.isEdit():
		return a.edit.Content != b.edit.Content, nil
	case b.isEdit():
		return s.atOdds(p, b, a)
	case a.isEdit():
		base, behind := s.behind[[2]string{a.editing.Name, b.branch}]
		if !behind {
			return false, nil
		}
		was, err := s.f.Chest.At(base, p)
		return !was.Same(b.is), chest.Explain(err)
	case a.is.Same(b.is):
		return false, nil
	}
	tree, ok := s.sharedBy(a.branch, b.branch)
	if !ok {
		return true, nil
	}
	was, err := s.f.Chest.At(tree, p)
	return !was.Same(a.is) && !was.Same(b.is), chest.Explain(err)
}

// mostPairs bounds how many pairs of sides are tried of one artifact.
const mostPairs = 10

// look tells what each side did, and tries to merge each two.
func (s *survey) look(ctx context.Context, o *Overlap, sides []claim) error {
	o.Verdict = ""
	for i, c := range sides {
		if c.isEdit() {
			o.Kind = max(o.Kind, c.edit.Kind)
			continue
		}
		if err := s.f.author(ctx, o.Path, c.tip, ledger.Commit{}, &o.Sides[i]); err != nil {
			return err
		}
		if err := s.f.tell(ctx, s.tree(c.base), s.tree(c.tip.Tree), &o.Sides[i], o); err != nil {
			return err
		}
	}
	pairs := 0
	for i, a := range sides {
		for k, b := range sides[:i] {
			odds, err := s.atOdds(o.Path, a, b)
			if err != nil {
				return err
			}
			if !odds {
				continue
			}
			if pairs++; pairs > mostPairs {
				o.worsen(Unknown)
				return nil
			}
			if err := s.try(ctx, o, a, b, o.Sides[i], o.Sides[k]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *survey) tree(d content.Digest) state.Commit {
	return state.Commit{Chest: s.f.Chest, Tree: d, Name: "tree"}
}

// try judges two sides: commits by a merge on trial, edits by what was told of them.
func (s *survey) try(ctx context.Context, o *Overlap, a, b claim, x, y Side) error {
	if a.isEdit() || b.isEdit() {
		merges := (!a.isEdit() || a.edit.Merges) && (!b.isEdit() || b.edit.Merges)
		o.compareTold(merges, told{x.Told, x.More}, told{y.Told, y.More})
		return nil
	}
	base := a.base
	if tree, ok := s.sharedBy(a.branch, b.branch); ok {
		base = tree
	}
	t, err := s.f.Reader.Try(ctx, s.tree(base), s.tree(a.tip.Tree), s.tree(b.tip.Tree), o.Path)
	if err != nil {
		return err
	}
	o.judge(t)
	return nil
}
