//go:build unix

package workspace

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// listFolder asks the file system once for each entry of a folder. The order is
// any.
func listFolder(full string) ([]found, error) {
	dir, err := os.Open(full)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	out := make([]found, 0, len(entries))
	fd := int(dir.Fd())
	var st unix.Stat_t
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, found{name: e.Name(), what: isFolder})
			continue
		}
		err := unix.Fstatat(fd, e.Name(), &st, unix.AT_SYMLINK_NOFOLLOW)
		for errors.Is(err, unix.EINTR) {
			err = unix.Fstatat(fd, e.Name(), &st, unix.AT_SYMLINK_NOFOLLOW)
		}
		if errors.Is(err, unix.ENOENT) {
			continue // gone while we looked
		}
		if err != nil {
			return nil, &fs.PathError{Op: "stat", Path: full + "/" + e.Name(), Err: err}
		}
		out = append(out, foundBy(e.Name(), &st))
	}
	return out, nil
}

func foundBy(name string, st *unix.Stat_t) found {
	f := found{name: name, size: st.Size, changed: st.Mtim.Nano(), inode: st.Ino}
	switch uint32(st.Mode) & unix.S_IFMT {
	case unix.S_IFDIR:
		f.what = isFolder
	case unix.S_IFLNK:
		f.what = isLink
	case unix.S_IFREG:
		f.what = isFile
		f.executable = st.Mode&unix.S_IXUSR != 0
	}
	return f
}

// lookAt asks the file system for one path; fs.ErrNotExist when there is nothing.
func lookAt(full string) (found, error) {
	var st unix.Stat_t
	if err := unix.Lstat(full, &st); err != nil {
		return found{}, &fs.PathError{Op: "lstat", Path: full, Err: err}
	}
	return foundBy("", &st), nil
}
