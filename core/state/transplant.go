package state

import (
	"context"
	"errors"
	"path"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
)

// Transplant gives the files that an artifact of one state gets when an element
// or a property of it becomes as another state has it: new content by project
// path, nil for a file that goes. An error for people says why it can't be done.
func (r *Reader) Transplant(ctx context.Context, into, from State, a element.Address) (map[string][]byte, error) {
	whole := "Bring the whole artifact back with oaken restore " + a.Path + "."
	read := func(s State) (*Artifact, error) {
		art, err := r.Read(ctx, s, a.Path)
		if errors.Is(err, kind.ErrNoFile) {
			return nil, fault.New(fault.Usage, whole, "%s holds no %s.", s.Label(), a.Path)
		}
		if err == nil && art.Why != nil {
			err = fault.New(fault.Refused, whole, "%s in %s can't be read by element: %w.", a.Path, s.Label(), art.Why)
		}
		return art, err
	}
	mine, err := read(into)
	if err != nil {
		return nil, err
	}
	theirs, err := read(from)
	if err != nil {
		return nil, err
	}
	w, ok := mine.Kind.(kind.Writer)
	if !ok || mine.Kind.Name() != theirs.Kind.Name() {
		return nil, fault.New(fault.Refused, whole, "%s is of the kind %s, whose elements can't be brought back one by one.", a.Path,
			mine.Kind.Name())
	}
	want, ok := element.Graft(mine.Reading.Root, theirs.Reading.Root, a)
	if !ok {
		return nil, fault.New(fault.Usage,
			"oaken compare "+from.Label()+" "+into.Label()+" "+a.Path+" shows what differs; an element can come back into one "+
				"that is there.", "%s can't be brought back from %s.", a, from.Label())
	}
	if element.Compare(mine.Reading.Root, want) == nil {
		return nil, nil
	}
	files, err := w.Write(mine.Source, want, kind.Contents(mine.Reading.Content, theirs.Reading.Content))
	if err != nil {
		return nil, fault.New(fault.Refused, whole, "%s can't be brought back alone: %w.", a, err)
	}
	again, err := w.Read(overlay{mine.Source, files})
	if err != nil || element.Compare(again.Root, want) != nil {
		return nil, fault.New(fault.Refused, whole, "%s can't be brought back alone: something else in the artifact would change.", a)
	}
	out := map[string][]byte{}
	for name, data := range files {
		out[mine.filePath(name)] = data
	}
	return out, nil
}

// filePath gives the project path of a file by the name that the source uses.
func (a *Artifact) filePath(name string) string {
	if _, folder := a.Source.(*folderSource); folder {
		return a.Path + "/" + name
	}
	return path.Join(path.Dir(a.Path), name)
}
