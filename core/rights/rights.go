// Package rights gives what lies in a folder the rights of that folder: a chest in a folder of a group is
// the group's, whatever the umask of the person who happens to write.
package rights

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Folder makes a folder that is missing, in one that is there. In a folder with the set-group-id bit,
// which is how a group shares one, it has the rights of that folder for the group; else those that the
// umask leaves.
func Folder(dir string) error {
	if err := os.Mkdir(dir, 0o777); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		return err
	}
	above, err := os.Stat(filepath.Dir(dir))
	if err != nil || above.Mode()&fs.ModeSetgid == 0 {
		return err
	}
	made, err := os.Stat(dir)
	if err != nil {
		return err
	}
	return os.Chmod(dir, made.Mode()&^0o070|above.Mode()&0o070)
}

// Folders is Folder, with the folders above that are missing.
func Folders(dir string) error {
	if info, err := os.Stat(dir); err == nil && info.IsDir() {
		return nil
	}
	if above := filepath.Dir(dir); above != dir {
		if err := Folders(above); err != nil {
			return err
		}
	}
	return Folder(dir)
}

// File gives the permission bits of a file in a folder: who may list the folder may read the file, and who
// may put files there may write it. Where the folder says nothing, the file is its owner's alone.
func File(dir string) fs.FileMode {
	info, err := os.Stat(dir)
	if err != nil {
		return 0o600
	}
	return info.Mode().Perm()&0o666 | 0o600
}

// Lacking lists, below a folder that the group may write, what the group can't use: folders and the named
// files that it may not write, and other files that it may not read. Of what can't be looked at nothing is
// said.
func Lacking(dir string, written func(name string) bool) (out []string) {
	top, err := os.Stat(dir)
	if err != nil || top.Mode()&0o020 == 0 {
		return nil
	}
	_ = filepath.WalkDir(dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		need := fs.FileMode(0o040)
		if d.IsDir() {
			need = 0o070
		} else if written(d.Name()) {
			need = 0o060
		}
		if info.Mode()&need != need || !sameGroup(top, info) {
			out = append(out, full)
		}
		return nil
	})
	return out
}
