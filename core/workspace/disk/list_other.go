//go:build !unix

package disk

import (
	"errors"
	"io/fs"
	"os"
)

// listFolder asks the file system once for each entry of a folder.
func listFolder(full string) ([]Seen, error) {
	entries, err := os.ReadDir(full)
	if err != nil {
		return nil, err
	}
	out := make([]Seen, 0, len(entries))
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

func foundBy(name string, info fs.FileInfo) Seen {
	f := Seen{Name: name, Size: info.Size(), Changed: info.ModTime().UnixNano()}
	switch {
	case info.IsDir():
		f.Sort = IsFolder
	case info.Mode()&fs.ModeSymlink != 0:
		f.Sort = IsLink
	case info.Mode().IsRegular():
		f.Sort = IsFile
	}
	return f
}

// LookAt asks the file system for one path; fs.ErrNotExist when there is nothing.
func LookAt(full string) (Seen, error) {
	info, err := os.Lstat(full)
	if err != nil {
		return Seen{}, err
	}
	return foundBy("", info), nil
}
