package history

import (
	"context"
	"errors"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// ListElement gives the commits that changed one element of an artifact, with
// all below it, or one property, the newest first; versions count those of the
// element. Renames of the artifact are followed.
func ListElement(ctx context.Context, c *chest.Chest, r *state.Reader, tip ledger.Commit, a element.Address, q Query) (out []Entry,
	more bool, err error) {
	if tip.ID == (ledger.ID{}) {
		return nil, false, nil
	}
	entries, err := versions(ctx, c, tip, a.Path)
	if err != nil {
		return nil, false, chest.Explain(err)
	}
	l := &looker{chest: c, reader: r, at: a, known: map[element.Digest]element.Digest{}}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
		changed, err := l.changed(ctx, e)
		if err != nil {
			return nil, false, err
		}
		if changed {
			out = append(out, e)
		}
	}
	n := 0
	for i := range out {
		out[i].Version, out[i].Versions = len(out)-i, len(out)
		if q.fits(out[i].Commit) {
			out[n] = out[i]
			n++
		}
	}
	out = out[:n]
	if q.Limit > 0 && n > q.Limit {
		return out[:q.Limit], true, nil
	}
	return out, false, nil
}

// looker finds what one element was in many versions of its artifact; each
// version is read once.
type looker struct {
	chest  *chest.Chest
	reader *state.Reader
	at     element.Address
	known  map[element.Digest]element.Digest // by the content of the artifact
}

// changed reports whether a commit has the element otherwise than all that it
// stands on.
func (l *looker) changed(ctx context.Context, e Entry) (bool, error) {
	now, err := l.sum(ctx, e.Commit.Tree, e.Path)
	if err != nil {
		return false, err
	}
	before := e.Path
	if e.From != "" {
		before = e.From
	}
	for _, id := range e.Commit.Parents {
		parent, err := l.chest.Commit(ctx, id)
		if err != nil {
			return false, err
		}
		was, err := l.sum(ctx, parent.Tree, before)
		if err != nil || was == now {
			return false, err
		}
	}
	return len(e.Commit.Parents) > 0 || now != element.Digest{}, nil
}

// sum gives a digest of the element in a tree; zero when it is not there, or
// can't be read.
func (l *looker) sum(ctx context.Context, tree element.Digest, path string) (element.Digest, error) {
	f, err := l.chest.At(tree, path)
	if err != nil || f.Mode == 0 {
		return element.Digest{}, chest.Explain(err)
	}
	if d, ok := l.known[f.Digest]; ok {
		return d, nil
	}
	d, err := l.read(ctx, tree, path)
	if err == nil {
		l.known[f.Digest] = d
	}
	return d, err
}

func (l *looker) read(ctx context.Context, tree element.Digest, path string) (none element.Digest, err error) {
	art, err := l.reader.Read(ctx, state.Commit{Chest: l.chest, Tree: tree, Name: path}, path)
	if errors.Is(err, kind.ErrNoFile) {
		return none, nil
	}
	if err != nil || art.Why != nil {
		return none, err
	}
	e := art.Reading.Root.Find(l.at.Steps)
	if e == nil {
		return none, nil
	}
	if l.at.Property == "" {
		return e.Sum(), nil
	}
	v := e.Prop(l.at.Property)
	if v.IsAbsent() {
		return none, nil
	}
	return (&element.Element{Type: "value", Props: []element.Prop{{Name: l.at.Property, Value: v}}}).Sum(), nil
}
