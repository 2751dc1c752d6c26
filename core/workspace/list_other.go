//go:build !unix

package workspace

import (
	"errors"
	"io/fs"
	"os"
)

// listFolder asks the file system once for each entry of a folder.
func listFolder(full string) ([]found, error) {
	entries, err := os.ReadDir(full)
	if err != nil {
		return nil, err
	}
	out := make([]found, 0, len(entries))
	for _, e := range entries {
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone while we looked
		}
		if err != nil {
			return nil, err
		}
		out = append(out, foundBy(e.Name(), info))
	}
	return out, nil
}

func foundBy(name string, info fs.FileInfo) found {
	f := found{name: name, size: info.Size(), changed: info.ModTime().UnixNano()}
	switch {
	case info.IsDir():
		f.what = isFolder
	case info.Mode()&fs.ModeSymlink != 0:
		f.what = isLink
	case info.Mode().IsRegular():
		f.what = isFile
	}
	return f
}

// lookAt asks the file system for one path; fs.ErrNotExist when there is nothing.
func lookAt(full string) (found, error) {
	info, err := os.Lstat(full)
	if err != nil {
		return found{}, err
	}
	return foundBy("", info), nil
}
