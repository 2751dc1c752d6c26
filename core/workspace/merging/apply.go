package merging

import (
	"context"
	"io"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// Apply brings the workspace from what the merge wrote before to what it comes
// to now, and remembers it.
func (w *Work) Apply(ctx context.Context, p *Pending, m *state.Merged) error {
	_, mine, theirs, err := w.States(p)
	if err != nil {
		return err
	}
	next := map[string]string{}
	for _, e := range m.Edits {
		switch {
		case w.asIs(p, e.Path):
			next[e.Path] = p.Written[e.Path]
		case e.Gone:
			next[e.Path] = ""
		case e.Take.Mode != 0:
			next[e.Path] = disk.Hex(e.Take.Digest)
		default:
			next[e.Path] = disk.Hex(element.DigestOf(e.Data))
		}
	}
	old, again := p.Written, p.Applying
	p.Written = map[string]string{}
	for path, d := range next {
		p.Written[path] = d
	}
	for path, d := range old { // also what is about to be taken back, in case we are stopped
		if _, ok := p.Written[path]; !ok {
			p.Written[path] = d
		}
	}
	p.Applying = true
	if err := w.Save(p); err != nil {
		return err
	}
	mineFiles, err := mine.Files(ctx)
	if err != nil {
		return err
	}
	isMine := state.ByPath(mineFiles)
	for path := range old {
		if _, stays := next[path]; stays || w.asIs(p, path) {
			continue
		}
		if f, ok := isMine[path]; !ok {
			err = w.Disk.Remove(path)
		} else {
			err = w.Disk.Fetch(mine, f)
		}
		if err != nil {
			return err
		}
		delete(p.Written, path)
	}
	return w.writeEdits(p, m, old, theirs, again)
}

func (w *Work) asIs(p *Pending, path string) bool {
	return slices.Contains(p.AsIs, w.Reader().Unit(path))
}

// writeEdits writes the outcome; again writes also what should be there already.
func (w *Work) writeEdits(p *Pending, m *state.Merged, old map[string]string, theirs state.State, again bool) error {
	goneFirst := slices.Clone(m.Edits) // a file may go where a folder comes, or the reverse
	slices.SortStableFunc(goneFirst, func(a, b state.Edit) int {
		switch {
		case a.Gone == b.Gone:
			return 0
		case a.Gone:
			return -1
		}
		return 1
	})
	for _, e := range goneFirst {
		if was, ok := old[e.Path]; w.asIs(p, e.Path) || !again && ok && was == p.Written[e.Path] {
			continue
		}
		if err := w.PutEdit(e, theirs); err != nil {
			return err
		}
	}
	p.Applying = false
	return w.Save(p)
}

// takeFrom writes a file by its digest, which is in the chest, under the path
// of the edit.
func (w *Work) takeFrom(e state.Edit, theirs state.State) error {
	f := e.Take
	f.Path = e.Path
	return w.Disk.Fetch(byDigest{w, theirs, f}, f)
}

// byDigest opens one file by its digest, whatever its path.
type byDigest struct {
	w *Work
	state.State
	file state.File
}

// Open reads the one file by its digest.
func (b byDigest) Open(string) (io.ReadCloser, error) {
	r, err := b.w.Chest.Contents.Open(b.file.Digest)
	return r, chest.Explain(err)
}

// PutEdit writes one edit of a merge.
func (w *Work) PutEdit(e state.Edit, theirs state.State) error {
	switch {
	case e.Gone:
		return w.Disk.Remove(e.Path)
	case e.Take.Mode != 0:
		return w.takeFrom(e, theirs)
	}
	return w.Disk.Write(e.Path, e.Data, disk.FileMode(e.Mode == chest.Executable))
}
