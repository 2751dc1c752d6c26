package watch

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/workspace"
)

// Programs that work on a file put another one beside it: that somebody has it open, what is not saved yet,
// what it was before. They have its name in theirs.

// isSign reports whether a name could be that of such a file.
func isSign(name string) bool {
	for _, begin := range []string{"~$", ".~lock.", "#", ".#", ".", "~"} {
		if strings.HasPrefix(name, begin) && len(name) > len(begin)+2 {
			return true
		}
	}
	for _, end := range []string{"~", ".tmp", ".temp", ".lock", ".lck", ".bak", ".part", ".autosave", ".swp"} {
		if strings.HasSuffix(strings.ToLower(name), end) {
			return true
		}
	}
	return false
}

// signOf gives the one of the files beside it that a sign is of; empty for none.
func signOf(sign string, beside []string) string {
	rest, office := strings.CutPrefix(sign, "~$") // it has the name less its first two characters, or all of it
	for _, name := range beside {
		switch {
		case name == sign:
		case strings.Contains(sign, name):
			return name
		case office && len(name) > 2 && len(rest) > 4 && strings.HasSuffix(name, rest) && len([]rune(name))-len([]rune(rest)) <= 2:
			return name
		}
	}
	return ""
}

// opened takes the locks of files that a program works on, as signs beside them tell, so that it can save
// them: files that need a lock can't be written without.
func (s *Session) opened(ctx context.Context, w *workspace.Workspace, signs []string) error {
	if !s.TakeLocks {
		return nil
	}
	for _, sign := range signs {
		dir := path.Dir(sign)
		names, err := w.RecordedIn(dir)
		if err != nil {
			return err
		}
		name := signOf(path.Base(sign), names)
		p := path.Join(dir, name)
		info, err := os.Lstat(filepath.Join(w.Root, filepath.FromSlash(p)))
		if name == "" || err != nil || info.Mode().Perm()&0o200 != 0 || !w.WantsLock(ctx, p) {
			continue
		}
		l, err := w.Lock(ctx, []string{p}, workspace.LockOptions{Reason: "being worked on"})
		if fault.CodeOf(err) == fault.Refused || fault.CodeOf(err) == fault.Conflict {
			s.tell(Contested, p, "A program has %s open, and its lock can't be had: %s", p, err.Error())
			continue
		}
		if err != nil {
			return err
		}
		if l.Brought != nil {
			s.tell(Arrived, p, "%s was newer in the chest: open it anew.", p)
		}
		s.tell(Locked, p, "A program has %s open: it is locked for you, and can be saved.", p)
	}
	return nil
}
