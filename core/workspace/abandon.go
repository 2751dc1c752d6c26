package workspace

import (
	"context"
	"os"

	"oakenchest/core/fault"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
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
		if c.Is.Mode == 0 {
			continue
		}
		d, _, err := disk.DigestFile(w.disk.Local(c.Path))
		if wrote, ok := p.Written[c.Path]; err == nil && (!ok || wrote != disk.Hex(d) || w.merging.ChoseIn(p, c.Path)) {
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
	if p.Abandoning = true; w.merging.Save(p) != nil {
		return nil, "", fault.New(fault.Unreachable, "Make room on the disk, or check the rights, and try again; nothing was changed.",
			"The workspace can't be written.")
	}
	if err := w.undo(s.Changes, p.Written); err != nil {
		return nil, "", err
	}
	if err := w.locking.Mark(ctx, disk.PathsOf(s.Changes)); err != nil {
		return nil, "", err
	}
	return p, kept, os.Remove(w.merging.File())
}

// undo brings changed files back as the base has them. Files that were made by
// hand, and not by the merge that wrote some, stay.
func (w *Workspace) undo(changes []Change, written map[string]string) error {
	var bring []state.File
	for _, c := range changes {
		if _, ok := written[c.Path]; !ok && c.State == New {
			continue
		}
		if c.Was.Mode != 0 {
			bring = append(bring, c.Was)
		}
		if c.Was.Mode == 0 || c.From != "" {
			if err := w.disk.Remove(c.Path); err != nil {
				return err
			}
		}
	}
	for _, f := range bring {
		if err := w.disk.Fetch(w.BaseState(), f); err != nil {
			return err
		}
	}
	return nil
}
