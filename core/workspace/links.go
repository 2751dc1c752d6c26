package workspace

import (
	"fmt"
	"os"
	"path"
	"path/filepath"

	"oakenchest/core/manifest"
)

// outside reports whether a link leads out of the project. Such a link is a link like others, and
// nothing is ever read or written by way of one; elsewhere it may lead to something else.
func outside(p, target string) bool {
	return path.IsAbs(target) || filepath.IsAbs(target) || !manifest.Inside(path.Join(path.Dir(p), target))
}

// strayLinks warns of links among changes that lead out of the project.
func (w *Workspace) strayLinks(changes []Change) (out []string) {
	for _, c := range changes {
		if target, err := os.Readlink(w.disk.Local(c.Path)); err == nil && outside(c.Path, filepath.ToSlash(target)) {
			out = append(out, fmt.Sprintf("%s is a link that leads outside of the project, to %s. For others it may lead to something "+
				"else, or nowhere.", c.Path, target))
		}
	}
	return out
}
