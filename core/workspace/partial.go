package workspace

import (
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// A partial workspace lays out a part of the project only: what its patterns
// choose, and oaken.toml. A file outside of that part which is not here counts as
// being as it was; one that was brought here is treated like any other.

// checkOnly refuses patterns that are not well formed.
func checkOnly(patterns []string) error {
	for _, p := range patterns {
		if p == "" || !doublestar.ValidatePattern(p) || strings.HasPrefix(p, "/") {
			return fault.New(fault.Usage, "Write paths of the project with * and **, such as exhibit/** or **/*.sql.",
				"%q is no pattern for --only.", p)
		}
	}
	return nil
}

// Only gives the patterns of a partial workspace; none means the whole project.
func (w *Workspace) Only() []string { return w.rec.Only }

// wanted reports whether a path belongs to the part that is laid out here.
func (w *Workspace) wanted(p string) bool {
	if len(w.rec.Only) == 0 || p == manifest.Name {
		return true
	}
	for _, pattern := range w.rec.Only {
		if ok, _ := doublestar.Match(pattern, p); ok || chest.Covers(pattern, p) {
			return true
		}
	}
	return false
}

// settled takes out of pairs of the base and the workspace what is only not laid
// out here.
func (w *Workspace) settled(pairs []chest.Pair) []chest.Pair {
	if len(w.rec.Only) == 0 {
		return pairs
	}
	return slices.DeleteFunc(pairs, func(p chest.Pair) bool { return p.Is.Mode == 0 && !w.wanted(p.Path) })
}

// withAbsent adds to the files that are here those of the base that are only not
// laid out.
func (w *Workspace) withAbsent(before, now []state.File) []state.File {
	if len(w.rec.Only) == 0 {
		return now
	}
	out := slices.Clone(now)
	for _, p := range chest.DiffFiles(before, now) {
		if p.Is.Mode == 0 && !w.wanted(p.Path) {
			out = append(out, p.Was)
		}
	}
	return chest.InOrder(out)
}
