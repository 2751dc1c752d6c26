package overlap

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// standing is how all branches and workspaces stand to each other.
type standing struct {
	trunk ledger.Commit
	tips  map[string]ledger.Commit
	// branches lists those with commits that the trunk has not; parted gives the tree
	// at which each parted from it.
	branches []string
	parted   map[string]content.Digest
	// shared gives, of two branches that have commits in common which the trunk has not,
	// the tree of the last of these.
	shared map[[2]string]content.Digest
	// behind gives, of a workspace with edits and a branch with commits that it does not
	// stand on, the tree at which they parted.
	behind map[[2]string]content.Digest
	crowd  *chest.Crowd
}

func (f *Finder) standing(ctx context.Context) (s standing, err error) {
	s = standing{tips: map[string]ledger.Commit{}, parted: map[string]content.Digest{}, shared: map[[2]string]content.Digest{},
		behind: map[[2]string]content.Digest{}}
	if s.crowd, err = f.Chest.Crowd(ctx, nil); err != nil {
		return s, err
	}
	err = f.Chest.View(ctx, func(tx ledger.Records) error {
		all, err := tx.Branches()
		if err != nil {
			return err
		}
		for _, b := range all {
			if b.Tip != (ledger.ID{}) {
				if s.tips[b.Name], err = tx.Commit(b.Tip); err != nil {
					return err
				}
			}
		}
		s.trunk = s.tips[chest.FirstBranch]
		lineage := chest.NewLineage(tx)
		for _, b := range all {
			if err := s.part(lineage, b.Name); err != nil {
				return err
			}
		}
		if err := s.findShared(lineage); err != nil {
			return err
		}
		return s.findBehind(tx, lineage)
	})
	return s, chest.Explain(err)
}

// part tells where a branch parted from the trunk.
func (s *standing) part(lineage *chest.Lineage, name string) error {
	tip, ok := s.tips[name]
	own, err := lineage.Extent(s.trunk)
	if !ok || err != nil || own.Holds(tip) {
		return err
	}
	s.branches = append(s.branches, name)
	s.parted[name], err = baseTree(lineage, s.trunk, tip)
	return err
}

// baseTree gives the tree at which two commits parted; the first one of several.
func baseTree(lineage *chest.Lineage, a, b ledger.Commit) (content.Digest, error) {
	bases, err := lineage.Bases(a, b)
	if err != nil || len(bases) == 0 {
		return content.Digest{}, err
	}
	return bases[0].Tree, nil
}

// findShared finds branches of which one was made from another, or merged it.
func (s *standing) findShared(lineage *chest.Lineage) error {
	trunk, err := lineage.Extent(s.trunk)
	if err != nil {
		return err
	}
	for i, a := range s.branches {
		for _, b := range s.branches[i+1:] {
			x, err := lineage.Extent(s.tips[a])
			if err != nil {
				return err
			}
			y, err := lineage.Extent(s.tips[b])
			if err != nil {
				return err
			}
			if shareMore(x, y, trunk) {
				if s.shared[[2]string{a, b}], err = baseTree(lineage, s.tips[a], s.tips[b]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// shareMore reports whether two extents have something in common that a third has not.
func shareMore(x, y, trunk ledger.Extent) bool {
	for branch, depth := range x {
		if min(depth, y[branch]) > trunk[branch] {
			return true
		}
	}
	return false
}

func (s *standing) sharedBy(a, b string) (content.Digest, bool) {
	if tree, ok := s.shared[[2]string{a, b}]; ok {
		return tree, true
	}
	tree, ok := s.shared[[2]string{b, a}]
	return tree, ok
}

// findBehind tells what workspaces with edits have not seen yet of each branch.
func (s *standing) findBehind(tx ledger.Records, lineage *chest.Lineage) error {
	var names []string
	for _, e := range s.crowd.Edits {
		if !slices.Contains(names, e.Workspace) {
			names = append(names, e.Workspace)
		}
	}
	for _, name := range names {
		w := s.crowd.Workspaces[name]
		var base ledger.Commit
		var err error
		if w.Base != (ledger.ID{}) {
			if base, err = tx.Commit(w.Base); err != nil {
				return err
			}
		}
		own, err := lineage.Extent(base)
		if err != nil {
			return err
		}
		for branch, tip := range s.tips {
			if own.Holds(tip) {
				continue
			}
			if s.behind[[2]string{name, branch}], err = baseTree(lineage, base, tip); err != nil {
				return err
			}
		}
	}
	return nil
}
