//go:build unix

package disk

import (
	"os"
	"syscall"
)

// umask holds the mode bits that new files are not to have.
var umask = func() os.FileMode {
	m := syscall.Umask(0)
	syscall.Umask(m)
	return os.FileMode(m)
}()
