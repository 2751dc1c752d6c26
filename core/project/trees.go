package project

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// SameIn reports whether two trees have the same files in some folders.
func (p *Project) SameIn(folders []string, a, b content.Digest) (bool, error) {
	pairs, err := p.Chest.Diff(a, b)
	if err != nil {
		return false, chest.Explain(err)
	}
	return !slices.ContainsFunc(pairs, func(p chest.Pair) bool {
		return p.Is.Mode != chest.Folder && p.Was.Mode != chest.Folder && state.Under(folders, p.Path)
	}), nil
}

// TreeWith stores files in the chest, and gives a tree that has them, nil ones removed.
func (p *Project) TreeWith(ctx context.Context, tree content.Digest, files map[string][]byte) (content.Digest, error) {
	batch := p.Chest.Contents.Begin(ctx)
	defer batch.Abandon()
	var list []state.File
	for name, data := range files {
		if data == nil { // it goes
			list = append(list, state.File{Path: name})
			continue
		}
		d, size, err := batch.Put(bytes.NewReader(data))
		if err != nil {
			return tree, Unstored(name, err)
		}
		f := state.File{Path: name, Mode: chest.Plain, Size: size, Digest: d}
		if was, err := p.Chest.At(tree, name); err == nil && was.Mode == chest.Executable {
			f.Mode = chest.Executable // a new content is none for what it is
		}
		list = append(list, f)
	}
	out, err := p.Chest.Amend(batch, tree, list)
	if err == nil {
		err = batch.Commit()
	}
	if err != nil {
		return tree, chest.Explain(fmt.Errorf("what was captured can't be stored: %w", err))
	}
	return out, nil
}

// TreeTaking gives a tree with some paths, files or folders, as another tree has them.
func (p *Project) TreeTaking(ctx context.Context, tree, from content.Digest, paths []string) (content.Digest, error) {
	pairs, err := p.Chest.Diff(tree, from)
	if err != nil {
		return tree, chest.Explain(err)
	}
	var list []state.File
	for _, pair := range pairs {
		if pair.Is.Mode != chest.Folder && pair.Was.Mode != chest.Folder && state.Under(paths, pair.Path) {
			pair.Is.Path = pair.Path
			list = append(list, pair.Is)
		}
	}
	batch := p.Chest.Contents.Begin(ctx)
	defer batch.Abandon()
	out, err := p.Chest.Amend(batch, tree, list)
	if err == nil {
		err = batch.Commit()
	}
	return out, chest.Explain(err)
}

// CommitFiles records files, nil ones removed, on top of a commit that is the tip of a branch, which need
// not be the workspace's. Nothing in the workspace changes.
func (p *Project) CommitFiles(ctx context.Context, branch string, on ledger.Commit, files map[string][]byte,
	message string) (ledger.Commit, error) {
	var made ledger.Commit
	err := p.Chest.Storing(ctx, func() error {
		tree, err := p.TreeWith(ctx, on.Tree, files)
		if err != nil {
			return err
		}
		made, err = p.Chest.Publish(ctx, chest.Draft{Branch: branch, Tip: on.ID, Tree: tree, Author: p.Person, Workspace: p.Name,
			Time: p.Now(), Message: message})
		return err
	})
	return made, err
}

// copyInto puts content that lies here into a batch of the chest.
func (p *Project) copyInto(batch *content.Batch, f state.File) error {
	if f.Mode == 0 || f.Mode == chest.Folder || batch.Has(f.Digest) {
		return nil
	}
	in, err := p.Chest.Contents.Open(f.Digest)
	if err != nil {
		return chest.Explain(err)
	}
	_, _, err = batch.Put(in)
	return errors.Join(err, in.Close())
}

// amend puts files into a tree; contents that the chest does not have go into the batch.
func (p *Project) Amend(batch *content.Batch, tree content.Digest, files []Incoming) (content.Digest, error) {
	list := make([]state.File, len(files))
	for i, f := range files {
		var err error
		if f.Data != nil {
			f.Digest, f.Size, err = batch.Put(bytes.NewReader(f.Data))
		} else {
			err = p.copyInto(batch, f.File)
		}
		if err != nil {
			return tree, Unstored(f.Path, err)
		}
		list[i] = f.File
	}
	out, err := p.Chest.Amend(batch, tree, list)
	return out, chest.Explain(err)
}

// AmendNow is amend, with the outcome in the chest when it returns.
func (p *Project) AmendNow(ctx context.Context, tree content.Digest, files []Incoming) (content.Digest, error) {
	batch := p.Chest.Contents.Begin(ctx)
	defer batch.Abandon()
	out, err := p.Amend(batch, tree, files)
	if err == nil {
		err = chest.Explain(batch.Commit())
	}
	return out, err
}

func IncomingOf(edits []state.Edit) []Incoming {
	var out []Incoming
	for _, e := range edits {
		f := e.Take
		f.Path = e.Path
		if !e.Gone && e.Take.Mode == 0 {
			f.Mode = e.Mode
			out = append(out, Incoming{f, append([]byte{}, e.Data...)})
			continue
		}
		if e.Gone {
			f.Mode = 0
		}
		out = append(out, Incoming{File: f})
	}
	return out
}

// Incoming is a file of a tree to be; Data is its content when no store has it.
type Incoming struct {
	state.File
	Data []byte
}

// Unstored says for people that the file at a path could not be stored.
func Unstored(p string, err error) error {
	if explained := chest.Explain(err); fault.CodeOf(explained) == fault.Unreachable {
		return explained
	}
	return fault.New(fault.Failed, "Nothing was recorded. Check the disk and the rights, and commit again.",
		"%s can't be stored: %w.", p, err)
}
