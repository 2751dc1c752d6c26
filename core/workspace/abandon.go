package workspace

import (
	"context"
	"os"
	"slices"

	"oakenchest/core/choice"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// Abandon gives the merge under way up and restores what it found. Edits made since, and files in which
// somebody settled something, are kept as rescue copies, in the folder that is given back.
func (w *Workspace) Abandon(ctx context.Context) (*Pending, string, error) {
	p, err := w.Pending()
	if err != nil {
		return nil, "", err
	}
	if p == nil {
		return nil, "", fault.New(fault.Usage, "oaken changes shows the state of the workspace.", "Nothing is being merged.")
	}
	s, _, err := w.status(ctx, false)
	if err != nil {
		return nil, "", err
	}
	var edited []string
	for _, c := range s.Changes {
		if c.is.Mode == 0 {
			continue
		}
		d, _, err := digestFile(w.local(c.Path))
		if wrote, ok := p.Written[c.Path]; err == nil && (!ok || wrote != hexOf(d) || w.choseIn(p, c.Path)) {
			edited = append(edited, c.Path)
		}
	}
	if err := w.canBring(s.Changes); err != nil {
		return nil, "", err
	}
	kept, err := w.rescue(ctx, edited)
	if err != nil {
		return nil, "", err
	}
	if p.Abandoning = true; w.savePending(p) != nil {
		return nil, "", fault.New(fault.Unreachable, "Make room on the disk, or check the rights, and try again; nothing was changed.", "The workspace can't be written.")
	}
	if err := w.undo(s.Changes, p.Written); err != nil {
		return nil, "", err
	}
	if err := w.mark(ctx, pathsOf(s.Changes)); err != nil {
		return nil, "", err
	}
	return p, kept, os.Remove(w.pendingFile())
}

// undo brings changed files back as the base has them. Files that were made by
// hand, and not by the merge that wrote some, stay.
func (w *Workspace) undo(changes []Change, written map[string]string) error {
	var bring []state.File
	for _, c := range changes {
		if _, ok := written[c.Path]; !ok && c.State == New {
			continue
		}
		if c.was.Mode != 0 {
			bring = append(bring, c.was)
		}
		if c.was.Mode == 0 || c.From != "" {
			if err := w.remove(c.Path); err != nil {
				return err
			}
		}
	}
	for _, f := range bring {
		if err := w.fetch(w.BaseState(), f); err != nil {
			return err
		}
	}
	return nil
}

// choseIn reports whether somebody settled a conflict in an artifact that a file belongs to.
func (w *Workspace) choseIn(p *Pending, file string) bool {
	unit := w.Reader().Unit(file)
	return slices.Contains(p.AsIs, unit) || slices.ContainsFunc(p.Settled, func(m choice.Made) bool {
		a, err := element.ParseAddress(m.Address)
		return err == nil && (a.Path == unit || a.Path == file)
	})
}
