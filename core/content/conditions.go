package content

import (
	"errors"
	"fmt"
	"os"
	"syscall"
)

// What a store says of the machine that it lies on.
var (
	// ErrAway: the store's folder is not there; the connection to its place is lost.
	ErrAway = errors.New("the store is out of reach")
	// ErrReadOnly: it can't be written.
	ErrReadOnly = errors.New("the store can't be written")
	// ErrSwept: what was being written is gone: somebody tidied.
	ErrSwept = errors.New("the store was tidied")
	// ErrFull: there is no room.
	ErrFull = errors.New("there is no room in the store")
)

// Condition adds to an error of the system what it says of the machine, where it says that there is no room.
func Condition(err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// condition adds to an error of the store's own files what it says of the machine.
func (s *Store) condition(err error) error {
	if err == nil {
		return nil
	}
	is := error(nil)
	switch {
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EROFS):
		is = ErrReadOnly
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT), errors.Is(err, syscall.EIO):
		is = ErrFull
	case errors.Is(err, os.ErrNotExist):
		if is = ErrSwept; !isFolder(s.dir) {
			is = ErrAway
		}
	default:
		return err
	}
	return fmt.Errorf("%w: %w", is, err)
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}
