//go:build unix

package rights

import (
	"io/fs"
	"syscall"
)

// sameGroup reports whether two files belong to one group.
func sameGroup(a, b fs.FileInfo) bool {
	x, known := a.Sys().(*syscall.Stat_t)
	y, also := b.Sys().(*syscall.Stat_t)
	return !known || !also || x.Gid == y.Gid
}
