package workspace

import (
	"context"
	"errors"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/locking"
)

// Glance tells what changed of some artifacts, without looking at all the others. Folders
// and patterns need that look.
func (w *Workspace) Glance(ctx context.Context, addresses []string) ([]Change, error) {
	var out []Change
	seen := map[string]bool{}
	base := w.BaseState().(state.Commit)
	for _, a := range addresses {
		p, _, _ := strings.Cut(a, "::")
		if seen[p] {
			continue
		}
		seen[p] = true
		was, err := base.At(p)
		if err != nil {
			return nil, err
		}
		is, err := w.disk.FileAt(p)
		if err != nil {
			return nil, err
		}
		if was.Mode == chest.Folder || w.IsPattern(a) || was.Mode == 0 && is.Mode == 0 {
			s, _, err := w.status(ctx, false)
			if err != nil {
				return nil, err
			}
			return s.Changes, nil
		}
		if c, changed := changeOf(p, was, is); changed {
			c.Kind = w.Reader().KindOf(p, locking.Head(w.disk.Local(p))).Name()
			out = append(out, c)
		}
	}
	return out, nil
}

// changeOf tells what became of one file.
func changeOf(p string, was, is state.File) (Change, bool) {
	c := Change{Path: p, State: Edited, Was: was, Is: is}
	switch {
	case was.Same(is):
		return c, false
	case was.Mode == 0:
		c.State = New
	case is.Mode == 0:
		c.State = Gone
	}
	return c, true
}

// EditedUnder lists what is edited here of what some locks reach.
func (w *Workspace) EditedUnder(ctx context.Context, locks []ledger.Lock) ([]string, error) {
	var addresses []string
	for _, l := range locks {
		if l.Workspace == w.Name {
			addresses = append(addresses, l.Address)
		}
	}
	if len(addresses) == 0 {
		return nil, nil
	}
	changes, err := w.Glance(ctx, addresses)
	if errors.Is(err, kind.ErrNoFile) {
		err = nil
	}
	var out []string
	for _, c := range changes {
		for _, l := range locks {
			if l.Workspace == w.Name && (chest.Reaches(l, c.Path) || strings.HasPrefix(l.Address, c.Path+"::")) {
				out = append(out, c.Path)
				break
			}
		}
	}
	return out, err
}
