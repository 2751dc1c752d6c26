// Package disk is the files of a workspace as they lie in its folder: looking at them and remembering what was seen,
// writing them safely, keeping copies of what is overwritten, and the workspace's own records beside them. It knows
// trees of a chest, but neither branches nor people.
//
// A Tree is used by one goroutine; what it does on several it waits for.
package disk

import (
	"path/filepath"
	"strings"
	"time"

	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// Folder is the name of the workspace's own folder.
const Folder = ".oaken"

// Tree is the files of a workspace.
type Tree struct {
	Root string
	Now  func() time.Time
	// Rules gives the manifest, which says what is left out.
	Rules func() *manifest.Manifest
	// Progress, when set, is told how far long work is: units done of a total.
	Progress func(what string, done, total int)

	index *index
	// unread holds the files whose digest the last scan left out.
	unread map[string]Seen
	// learnt says that the index knows more than its file.
	learnt bool
}

func (t *Tree) progress(what string, done, total int) {
	if t.Progress != nil {
		t.Progress(what, done, total)
	}
}

// Local gives the place of a project path on this machine.
func (t *Tree) Local(p string) string { return filepath.Join(t.Root, filepath.FromSlash(p)) }

// Own gives the place of a name in the workspace's own folder.
func (t *Tree) Own(name string) string { return filepath.Join(t.Root, Folder, name) }

// ProjectPath gives the path in the project of a path that a person wrote, relative to dir. It must stay in the
// project.
func (t *Tree) ProjectPath(dir, p string) (string, error) {
	abs := p
	if !filepath.IsAbs(p) {
		abs = filepath.Join(dir, p)
	}
	rel, err := filepath.Rel(t.Root, abs)
	rel = filepath.ToSlash(rel)
	if err != nil || rel == ".." || strings.HasPrefix(rel, "../") {
		return "", fault.New(fault.Usage, "Name a path inside "+t.Root+".", "%s is outside of the project.", p)
	}
	if rel == Folder || strings.HasPrefix(rel, Folder+"/") {
		return "", fault.New(fault.Usage, "Name a path of the project itself.", "%s belongs to the workspace's own state.", p)
	}
	return rel, nil
}
