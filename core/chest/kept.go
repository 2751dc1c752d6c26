package chest

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"time"

	"oakenchest/core/blob"
	"oakenchest/core/ledger"
)

// KeptFile is a file that is kept. Its name has / between folders.
type KeptFile struct {
	Name string
	Open func() (io.ReadCloser, error)
}

// InMemory gives a KeptFile of bytes.
func InMemory(name string, data []byte) KeptFile {
	return KeptFile{name, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

// Keep stores files that an environment holds before a deployment that is about to
// begin, and gives the number of the record.
func (c *Chest) Keep(ctx context.Context, environment string, files []KeptFile, now time.Time) (id int64, err error) {
	release, err := c.Hold(ctx, false)
	if err != nil {
		return 0, err
	}
	defer release()
	tree, err := c.storeTree(files)
	if err != nil {
		return 0, Explain(err)
	}
	err = c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		id, err = tx.Keep(ledger.Kept{Environment: environment, Time: now, Tree: hex.EncodeToString(tree[:])})
		return err
	})
	return id, Explain(err)
}

// Forget takes away what was kept.
func (c *Chest) Forget(ctx context.Context, id int64) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.Forget(id) }))
}

// LastKept gives what an environment held before the newest deployment that was not
// taken back; ok is false when nothing is kept.
func (c *Chest) LastKept(ctx context.Context, environment string) (k ledger.Kept, ok bool, err error) {
	err = c.Ledger.View(ctx, func(tx *ledger.Tx) error { k, err = tx.LastKept(environment); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return k, false, nil
	}
	return k, err == nil, Explain(err)
}

// KeptFiles reads the files that are kept.
func (c *Chest) KeptFiles(k ledger.Kept) (map[string][]byte, error) {
	tree, err := treeOf(k)
	if err != nil {
		return nil, err
	}
	list, err := c.Files(tree)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, f := range list {
		if f.Mode == Folder {
			continue
		}
		in, err := c.Blobs.Open(f.Digest)
		if err != nil {
			return nil, Explain(err)
		}
		out[f.Path], err = io.ReadAll(in)
		if err = errors.Join(err, in.Close()); err != nil {
			return nil, Explain(err)
		}
	}
	return out, nil
}

func treeOf(k ledger.Kept) (blob.Digest, error) {
	var d blob.Digest
	raw, err := hex.DecodeString(k.Tree)
	if err != nil || len(raw) != len(d) {
		return d, fmt.Errorf("the record of what %s held before a deployment is damaged", k.Environment)
	}
	copy(d[:], raw)
	return d, nil
}

// Deployed records a deployment, and that what was kept belongs to it; kept is 0 when
// nothing was.
func (c *Chest) Deployed(ctx context.Context, kept int64, d ledger.Deployment) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.Finish(kept, d) }))
}

// Changed records that what was kept belongs to a change that is finished, and is no
// deployment of a commit.
func (c *Chest) Changed(ctx context.Context, kept int64) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error { return tx.Number(kept, ledger.Unnumbered) }))
}

// TakenBack records that an environment is as it was kept: the deployment that changed it
// is undone.
func (c *Chest) TakenBack(ctx context.Context, k ledger.Kept, author, workspace string, now time.Time) error {
	return Explain(c.Ledger.Update(ctx, func(tx *ledger.Tx) error {
		if k.Deployment <= 0 {
			return tx.Forget(k.ID)
		}
		return tx.Undo(k, author, workspace, now)
	}))
}
