package state

import (
	"path"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/element"
)

// clashes finds names that would be a file and a folder at once, because one
// side made a file where the other made a folder. Mine stands unless the
// conflict is settled otherwise.
func (g *merge) clashes() {
	present := map[string]bool{} // whether theirs, or a merge, brings it
	for p, f := range g.m.files {
		if f.Mode != chest.Folder {
			present[p] = false
		}
	}
	for p, e := range g.edits {
		if e.Gone || e.Take.Mode == chest.Folder {
			delete(present, p)
		} else {
			present[p] = true
		}
	}
	below := map[string][]string{}
	for p := range present {
		for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
			if _, file := present[dir]; file {
				below[dir] = append(below[dir], p)
			}
		}
	}
	var files []string
	for p := range below {
		files = append(files, p)
	}
	slices.Sort(files)
	for _, p := range files {
		slices.Sort(below[p])
		g.settleClash(p, below[p], present)
	}
}

// settleClash decides about a file p and the files below a folder of that name.
func (g *merge) settleClash(p string, inside []string, brought map[string]bool) {
	c := element.Conflict{Address: element.Address{Path: p}, Base: side(g.b.files[p]), Mine: side(g.m.files[p]), Theirs: side(g.t.files[p]),
		Allows: []element.Keep{element.KeepMine, element.KeepTheirs}}
	choice, ok := element.Choice{}, false
	if g.settle != nil {
		choice, ok = g.settle(c)
	}
	if !ok || !slices.Contains(c.Allows, choice.Keep) {
		g.out.Conflicts = append(g.out.Conflicts, c)
		choice.Keep = element.KeepMine
	}
	for _, q := range append([]string{p}, inside...) {
		switch {
		case choice.Keep == element.KeepMine && brought[q] && g.m.files[q].Mode == 0:
			delete(g.edits, q)
		case choice.Keep == element.KeepTheirs && g.t.files[q].Mode == 0:
			g.edits[q] = Edit{Path: q, Gone: true}
		}
	}
}
