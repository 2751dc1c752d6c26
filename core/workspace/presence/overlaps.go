package presence

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/overlap"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Warnings tells who else has changed some artifacts, and whether it would merge.
func (t *Teller) Warnings(ctx context.Context, paths []string, changes []disk.Change) ([]overlap.Overlap, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	branch, base := t.In.Stands()
	h := overlap.Here{Workspace: t.Name, Branch: branch, Base: base, Work: t.In.Work(), Edited: map[string]bool{}}
	if tree := t.In.Tree(); base.Tree != tree { // what is unsent is work of this side
		pairs, err := t.Chest.Diff(base.Tree, tree)
		if err != nil {
			return nil, chest.Explain(err)
		}
		for _, p := range pairs {
			h.Edited[t.Reader().Unit(p.Path)] = true
		}
	}
	r := t.Reader()
	for _, c := range changes {
		h.Edited[r.Unit(c.Path)] = true
	}
	h.File = func(p string) chest.File {
		f, err := h.Work.(state.Finder).At(p)
		if err != nil {
			return chest.File{}
		}
		return f
	}
	var units []string
	for _, p := range paths {
		p, _, _ = strings.Cut(p, "::")
		if u := r.Unit(p); !slices.Contains(units, u) {
			units = append(units, u)
		}
	}
	return (&overlap.Finder{Chest: t.Chest, Reader: r}).Around(ctx, h, units)
}

// Overlaps lists what several branches and workspaces are changing at once.
func (t *Teller) Overlaps(ctx context.Context, paths []string, look int) ([]overlap.Overlap, error) {
	out, err := (&overlap.Finder{Chest: t.Chest, Reader: t.Reader()}).Everywhere(ctx, paths, look)
	return out, chest.Explain(err)
}
