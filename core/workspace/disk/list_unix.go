//go:build unix

package disk

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// listFolder asks the file system once for each entry of a folder. The order is
// any.
func listFolder(full string) ([]Seen, error) {
	dir, err := os.Open(full)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return nil, err
	}
	out := make([]Seen, 0, len(entries))
	fd := int(dir.Fd())
	var st unix.Stat_t
	for _, e := range entries {
		if e.IsDir() {
			out = append(out, Seen{Name: e.Name(), Sort: IsFolder})
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

func foundBy(name string, st *unix.Stat_t) Seen {
	f := Seen{Name: name, Size: st.Size, Changed: st.Mtim.Nano(), Inode: st.Ino}
	switch uint32(st.Mode) & unix.S_IFMT {
	case unix.S_IFDIR:
		f.Sort = IsFolder
	case unix.S_IFLNK:
		f.Sort = IsLink
	case unix.S_IFREG:
		f.Sort = IsFile
		f.Executable = st.Mode&unix.S_IXUSR != 0
	}
	return f
}

// LookAt asks the file system for one path; fs.ErrNotExist when there is nothing.
func LookAt(full string) (Seen, error) {
	var st unix.Stat_t
	if err := unix.Lstat(full, &st); err != nil {
		return Seen{}, &fs.PathError{Op: "lstat", Path: full, Err: err}
	}
	return foundBy("", &st), nil
}
