//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// spot is a name in a folder of the project that is held open: what happens to it happens there, whatever
// becomes of the path meanwhile. No folder on the way to it was a link.
type spot struct {
	folder int // a descriptor
	name   string
	path   string // for messages
}

// spot opens the folder of a project path, one by one from the top, never through a link. With create,
// folders that are missing are made.
func (t *Tree) spot(p string, create bool) (*spot, error) {
	if manifest.OwnIn(p) {
		return nil, fault.New(fault.Refused, "Nothing was written there.", "%s is a name of the workspace's own folder.", p)
	}
	const how = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC
	at, err := retry(func() (int, error) { return unix.Open(t.Root, how, 0) })
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: t.Root, Err: err}
	}
	for from := 0; ; {
		end := strings.IndexByte(p[from:], '/')
		if end < 0 {
			return &spot{at, p[from:], t.Local(p)}, nil
		}
		name, sofar := p[from:from+end], p[:from+end]
		from += end + 1
		below, err := openBelow(at, name, how|unix.O_NOFOLLOW, create)
		unix.Close(at)
		switch {
		case errors.Is(err, unix.ELOOP), errors.Is(err, unix.ENOTDIR), errors.Is(err, unix.EMLINK):
			return nil, fault.New(fault.Refused, "Move it away first.", "%s is in the way: a folder has to go there.", sofar)
		case err != nil:
			return nil, &fs.PathError{Op: "open", Path: t.Local(sofar), Err: err}
		}
		at = below
	}
}

// openBelow opens a folder in one that is open, and makes it when it is missing.
func openBelow(at int, name string, how int, create bool) (int, error) {
	below, err := retry(func() (int, error) { return unix.Openat(at, name, how, 0) })
	if !create || !errors.Is(err, unix.ENOENT) {
		return below, err
	}
	if err := unix.Mkdirat(at, name, 0o777); err != nil && !errors.Is(err, unix.EEXIST) {
		return 0, err
	}
	return retry(func() (int, error) { return unix.Openat(at, name, how, 0) })
}

// retry makes a call again that a signal interrupted.
func retry(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}

func (s *spot) close() { _ = unix.Close(s.folder) }

func (s *spot) fail(op string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: s.path, Err: err}
}

// take brings a file, or a link, from elsewhere to the spot, in the place of what is there.
func (s *spot) take(from string) error {
	return s.fail("rename", unix.Renameat(unix.AT_FDCWD, from, s.folder, s.name))
}

// give brings what is at the spot to another place.
func (s *spot) give(to string) error {
	return s.fail("rename", unix.Renameat(s.folder, s.name, unix.AT_FDCWD, to))
}

// remove takes away a file, a link or an empty folder; fs.ErrNotExist when there is nothing.
func (s *spot) remove() error {
	var st unix.Stat_t
	if err := unix.Fstatat(s.folder, s.name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return s.fail("stat", err)
	}
	flags := 0
	if st.Mode&unix.S_IFMT == unix.S_IFDIR {
		flags = unix.AT_REMOVEDIR
	}
	return s.fail("remove", unix.Unlinkat(s.folder, s.name, flags))
}

// rmdir takes away an empty folder.
func (s *spot) rmdir() error {
	return s.fail("remove", unix.Unlinkat(s.folder, s.name, unix.AT_REMOVEDIR))
}

// mkdir makes a folder; one that is there is fine.
func (s *spot) mkdir() error {
	err := unix.Mkdirat(s.folder, s.name, 0o777)
	var st unix.Stat_t
	if errors.Is(err, unix.EEXIST) && unix.Fstatat(s.folder, s.name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil &&
		st.Mode&unix.S_IFMT == unix.S_IFDIR {
		return nil
	}
	return s.fail("mkdir", err)
}

// chmod gives a plain file other permission bits; a link is left alone.
func (s *spot) chmod(mode os.FileMode) error {
	fd, err := retry(func() (int, error) {
		return unix.Openat(s.folder, s.name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return s.fail("open", err)
	}
	defer unix.Close(fd)
	return s.fail("chmod", unix.Fchmod(fd, uint32(mode.Perm())))
}
