//go:build unix

package local

import (
	"errors"
	"syscall"
)

// running reports whether a process of this machine is there.
func running(process int) bool {
	err := syscall.Kill(process, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
