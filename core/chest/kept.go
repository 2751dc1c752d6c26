package chest

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"oakenchest/core/content"
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
	environment = c.RecordName(environment)
	release, err := c.Hold(ctx)
	if err != nil {
		return 0, err
	}
	defer release()
	tree, err := c.storeTree(ctx, files)
	if err != nil {
		return 0, Explain(err)
	}
	out, err := c.do(ctx, Keep{ledger.Kept{Environment: environment, Time: now, Tree: hex.EncodeToString(tree[:])}})
	return out.Number, Explain(err)
}

// Forget takes away what was kept.
func (c *Chest) Forget(ctx context.Context, id int64) error {
	return c.just(ctx, Forget{id})
}

// LastKept gives what an environment held before the newest deployment that was not
// taken back; ok is false when nothing is kept.
func (c *Chest) LastKept(ctx context.Context, environment string) (k ledger.Kept, ok bool, err error) {
	err = c.View(ctx, func(r ledger.Records) error { k, err = r.LastKept(c.RecordName(environment)); return err })
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
		in, err := c.Contents.Open(f.Digest)
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

func treeOf(k ledger.Kept) (content.Digest, error) {
	var d content.Digest
	raw, err := hex.DecodeString(k.Tree)
	if err != nil || len(raw) != len(d) {
		return d, fmt.Errorf("the record of what %s held before a deployment is damaged", k.Environment)
	}
	copy(d[:], raw)
	return d, nil
}

// Changed records that what was kept belongs to a change that is finished, and is no
// deployment of a commit.
func (c *Chest) Changed(ctx context.Context, kept int64) error {
	return c.just(ctx, Number{kept, ledger.Unnumbered})
}

// TakingBack is what is recorded when deployments to an environment are taken back.
type TakingBack struct {
	// Kept is what the environment held before them; the oldest numbered one first.
	Kept              []ledger.Kept
	Author, Workspace string
	Time              time.Time
	// Aside is the number of what it held before it was taken back; 0 for none.
	Aside int64
	// Absences are the works that it has no more.
	Absences []ledger.Absence
	// Draft is the commit that takes them back from the environment's branch; without a branch
	// there is none.
	Draft Draft
}

// TakeBack records it, in one transaction. It wraps ledger.ErrMoved when the branch is not
// where it was.
func (c *Chest) TakeBack(ctx context.Context, x TakingBack) (made ledger.Commit, err error) {
	a := Publish{Back: x.Kept, BackBy: ledger.Undone{Author: x.Author, Workspace: x.Workspace, Time: x.Time}, Aside: x.Aside,
		Absences: c.recorded(x.Absences)}
	if x.Draft.Branch != "" {
		a.Drafts = []Draft{x.Draft}
	}
	out, err := c.publish(ctx, a)
	if len(out.Commits) > 0 {
		made = out.Commits[0]
	}
	return made, err
}

// recorded gives absences by the name under which their environment's records are kept.
func (c *Chest) recorded(list []ledger.Absence) []ledger.Absence {
	list = slices.Clone(list)
	for i := range list {
		list[i].Environment = c.RecordName(list[i].Environment)
	}
	return list
}

// Absences gives what was taken back from each environment, the oldest first.
func (c *Chest) Absences(ctx context.Context) (out map[string][]ledger.Absence, err error) {
	var all map[string][]ledger.Absence
	err = c.View(ctx, func(r ledger.Records) error { all, err = r.Absences(); return err })
	out = make(map[string][]ledger.Absence, len(all))
	for name, list := range all {
		out[c.plainName(name)] = list
	}
	return out, Explain(err)
}

// KeptAs gives what is kept under a number; ok is false when it is not there any more.
func (c *Chest) KeptAs(ctx context.Context, id int64) (k ledger.Kept, ok bool, err error) {
	var all []ledger.Kept
	err = c.View(ctx, func(r ledger.Records) error { all, err = r.AllKept(); return err })
	for _, x := range all {
		if x.ID == id {
			k, ok = x, true
		}
	}
	return k, ok, Explain(err)
}
