package manifest

import (
	"path"
	"strings"
)

// Disk says of a sort of targets that their addresses are paths on this machine's disk.
type Disk struct {
	// Folder says that a target is a folder, and not one file.
	Folder bool
	// Beside are the endings of what is kept beside the file of a target, such as a journal.
	Beside []string
}

var onDisk = map[string]Disk{}

// OnDisk makes known that addresses of a scheme are paths. Package environment calls it for the sorts of targets
// that the program reaches; of others nothing is known to lie inside of a project.
func OnDisk(scheme string, d Disk) { onDisk[scheme] = d }

// Place gives the path that a target is, cleaned, with slashes; false where it is none.
func (s Site) Place() (string, Disk, bool) { return placeOf(s.Target) }

func placeOf(target string) (string, Disk, bool) {
	scheme, rest, _ := strings.Cut(target, ":")
	d, ok := onDisk[scheme]
	return path.Clean(strings.ReplaceAll(rest, "\\", "/")), d, ok
}

// InsideProject reports whether a target lies in the project's own folder, and takes nothing from the machine.
func InsideProject(target string) bool {
	p, _, ok := placeOf(target)
	return ok && !strings.Contains(target, "${") && Inside(p)
}
