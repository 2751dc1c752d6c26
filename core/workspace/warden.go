package workspace

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/manifest"
	"oakenchest/core/project"
	"oakenchest/core/state"
)

// warden keeps the rules of the project.
func (w *Workspace) warden() project.Warden {
	return project.Warden{Project: w.Project, Owner: func() bool { return w.folder != nil && w.folder.Owned() }}
}

// mayMerge refuses a merge into the first branch that would change rules which this person
// may not change, before anything is written.
func (w *Workspace) mayMerge(ctx context.Context, m *state.Merged, theirs state.State) error {
	if w.Branch != chest.FirstBranch || w.Offline {
		return nil
	}
	for _, e := range m.Edits {
		if e.Path != manifest.Name {
			continue
		}
		var data []byte
		var err error
		switch {
		case e.Gone:
		case e.Take.Mode != 0:
			data, err = state.ReadFile(theirs, e.Take.Path)
		default:
			data = append([]byte{}, e.Data...)
		}
		if err != nil {
			return err
		}
		return w.warden().MayRule(ctx, w.tree(), data)
	}
	return nil
}
