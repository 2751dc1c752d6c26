package project

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// LayOut writes all files of a state below a folder that is empty or new.
func (p *Project) LayOut(ctx context.Context, s state.State, dir string) error {
	files, err := s.Files(ctx)
	if err == nil {
		_, err = p.PutOut(ctx, files, s, dir)
	}
	return err
}

// PutOut writes files of a state below a folder that is empty or new; nothing that is
// there is overwritten.
func (p *Project) PutOut(ctx context.Context, chosen []state.File, from state.State, to string) (paths []string, err error) {
	for _, f := range chosen {
		if _, err := os.Lstat(filepath.Join(to, filepath.FromSlash(f.Path))); err == nil {
			return nil, fault.New(fault.Refused, "Name an empty folder.", "%s is in %s already and would be overwritten.", f.Path, to)
		}
	}
	if err := os.MkdirAll(to, 0o777); err != nil {
		return nil, fault.New(fault.Refused, "Name another folder.", "%s can't be made: %w.", to, err)
	}
	for _, f := range chosen {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		full := filepath.Join(to, filepath.FromSlash(f.Path))
		if f.Mode == chest.Folder {
			if err := os.MkdirAll(full, 0o777); err != nil {
				return nil, err
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
			return nil, fault.New(fault.Refused, "Name another folder.", "%s can't be made: %w.", to, err)
		}
		if err := copyOut(from, f, full); err != nil {
			return nil, err
		}
		paths = append(paths, f.Path)
	}
	return paths, nil
}

func copyOut(from state.State, f state.File, full string) error {
	in, err := from.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	mode := os.FileMode(0o666)
	if f.Mode == chest.Executable {
		mode = 0o777
	}
	out, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		out.Close()
		os.Remove(full)
		return err
	}
	return out.Close()
}
