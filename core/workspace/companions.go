package workspace

import (
	"context"
	"os"
	"slices"

	"oakenchest/core/state"
)

// choose keeps the changes of the chosen paths and of their companions, and
// gives the paths of those that were not chosen themselves.
func (w *Workspace) choose(all []Change, paths []string) (chosen []Change, along []string) {
	pick := make([]bool, len(all))
	at := map[string]int{}
	for i, c := range all {
		at[c.Path] = i
		if c.From != "" {
			at[c.From] = i
		}
		pick[i] = state.Under(paths, c.Path) || c.From != "" && state.Under(paths, c.From)
	}
	for i, c := range all {
		for _, p := range []string{c.Path, c.From} {
			for _, companion := range w.companionsOf(p) {
				j, changed := at[companion]
				if !changed || pick[i] == pick[j] {
					continue
				}
				left := j
				if pick[j] {
					left = i
				}
				pick[left] = true
				along = append(along, all[left].Path)
			}
		}
	}
	for i, c := range all {
		if pick[i] {
			chosen = append(chosen, c)
		}
	}
	return chosen, along
}

func (w *Workspace) companionsOf(p string) []string {
	if p == "" || len(w.Manifest.Companions) == 0 {
		return nil
	}
	return w.Manifest.CompanionsOf(p)
}

// lonely says which changed files are about to be parted from their companions.
func (w *Workspace) lonely(chosen []Change) []string {
	var out []string
	there := func(p string) bool { _, err := os.Lstat(w.disk.Local(p)); return err == nil }
	for _, c := range chosen {
		for _, companion := range w.companionsOf(c.Path) {
			switch {
			case c.State == Gone && there(companion):
				out = append(out, companion+" stays behind, and "+c.Path+", which it goes with, is gone.")
			case c.State != Gone && !there(companion):
				out = append(out, c.Path+" goes without its companion "+companion+", which is not there.")
			}
		}
	}
	return out
}

// withCompanions adds to the chosen files of a state the companions that the
// state holds of them.
func (w *Workspace) withCompanions(ctx context.Context, from state.State, chosen []state.File) ([]state.File, error) {
	if len(w.Manifest.Companions) == 0 {
		return chosen, nil
	}
	files, err := from.Files(ctx)
	if err != nil {
		return nil, err
	}
	is, have := state.ByPath(files), state.ByPath(chosen)
	for _, f := range slices.Clone(chosen) {
		for _, companion := range w.companionsOf(f.Path) {
			if c, ok := is[companion]; ok && have[companion].Mode == 0 {
				chosen = append(chosen, c)
			}
		}
	}
	return chosen, nil
}
