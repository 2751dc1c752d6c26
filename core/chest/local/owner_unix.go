//go:build unix

package local

import (
	"os"
	"syscall"
)

// Owned reports whether the chest's folder belongs, in the file system, to whoever runs the
// program.
func (f *Folder) Owned() bool {
	info, err := os.Stat(f.Dir)
	if err != nil {
		return false
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(s.Uid) == os.Geteuid()
}
