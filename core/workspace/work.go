package workspace

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/kind"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Files lists the files of the workspace that are not left out, with their digests.
func (w *Workspace) Files(ctx context.Context) ([]state.File, error) { return w.disk.Files(ctx) }

// Count counts the files that are not left out, without reading them.
func (w *Workspace) Count(ctx context.Context) (int, error) { return w.disk.Count(ctx) }

// Work is the state of the workspace as it lies there.
func (w *Workspace) Work() state.State { return workState{w} }

type workState struct{ *Workspace }

func (s workState) Label() string { return "work" }

// Files lists what lies there, and what a partial workspace does not lay out.
func (s workState) Files(ctx context.Context) ([]state.File, error) {
	now, err := s.Workspace.Files(ctx)
	if err != nil || len(s.rec.Only) == 0 {
		return now, err
	}
	before, err := s.BaseState().Files(ctx)
	return s.withAbsent(before, now), err
}

func (s workState) Open(p string) (io.ReadCloser, error) {
	full := s.disk.Local(p)
	info, err := os.Lstat(full)
	if err != nil {
		if !s.wanted(p) {
			return s.BaseState().Open(p)
		}
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(full)
		return io.NopCloser(strings.NewReader(filepath.ToSlash(target))), err
	}
	return os.Open(full)
}

// At gives the file at a path; of a folder that holds something, its mode alone.
func (s workState) At(p string) (state.File, error) {
	f, err := s.disk.FileAt(p)
	if err != nil || f.Mode != 0 {
		return f, err
	}
	seen, missing := disk.LookAt(s.disk.Local(p))
	switch {
	case missing == nil && seen.Sort == disk.IsFolder && !s.Manifest.LeftOut(p):
		return state.File{Path: p, Mode: chest.Folder}, nil
	case missing != nil && !s.wanted(p):
		return s.CommitState(s.Base, "base").(state.Finder).At(p)
	}
	return state.File{}, nil
}

// Below lists the files of a folder.
func (s workState) Below(p string) ([]state.File, error) {
	all, err := s.Files(context.Background())
	return slices.DeleteFunc(all, func(f state.File) bool { return !strings.HasPrefix(f.Path, p+"/") }), err
}
