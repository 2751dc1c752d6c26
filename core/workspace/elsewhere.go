package workspace

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// CommittedManifest gives the text of oaken.toml in a commit.
func (w *Workspace) CommittedManifest(c ledger.Commit) ([]byte, error) {
	return state.ReadFile(w.CommitState(c, Label(c)), manifest.Name)
}

// CommitFiles records files, nil ones removed, on top of a commit that is the tip of a branch, which need
// not be the workspace's. Nothing in the workspace changes.
func (w *Workspace) CommitFiles(ctx context.Context, branch string, on ledger.Commit, files map[string][]byte, message string) (ledger.Commit, error) {
	var made ledger.Commit
	err := w.Chest.Storing(ctx, func() error {
		tree, err := w.TreeWith(ctx, on.Tree, files)
		if err != nil {
			return err
		}
		made, err = w.Chest.Publish(ctx, chest.Draft{Branch: branch, Tip: on.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: message})
		return err
	})
	return made, err
}
