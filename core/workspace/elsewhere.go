package workspace

import (
	"bytes"
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
	release, err := w.Chest.Hold(ctx, false)
	if err != nil {
		return ledger.Commit{}, err
	}
	defer release()
	batch := w.Chest.Blobs.Begin()
	defer batch.Abandon()
	var list []state.File
	for p, data := range files {
		if data == nil { // it goes
			list = append(list, state.File{Path: p})
			continue
		}
		d, size, err := batch.Put(bytes.NewReader(data))
		if err != nil {
			return ledger.Commit{}, unstored(p, err)
		}
		list = append(list, state.File{Path: p, Mode: chest.Plain, Size: size, Digest: d})
	}
	tree, err := w.Chest.Amend(batch, on.Tree, list)
	if err == nil {
		err = batch.Commit()
	}
	if err != nil {
		return ledger.Commit{}, chest.Explain(err)
	}
	return w.Chest.Publish(ctx, chest.Draft{Branch: branch, Tip: on.ID, Tree: tree, Author: w.Person, Workspace: w.Name, Time: w.host.Now(), Message: message})
}
