package state

import (
	"context"
	"errors"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Outcome is what a merge of one artifact would come to.
type Outcome struct {
	Kind string
	// Merges says that the kind can be merged, and can read all versions.
	Merges bool
	// Conflicts is what could not be decided; of an artifact that can't be merged, the
	// whole of it.
	Conflicts []element.Conflict
}

// Try tells what a merge of the artifact at a path would come to, and writes nothing. A
// state that does not hold it counts as having taken it away, or not made it yet.
func (r *Reader) Try(ctx context.Context, base, mine, theirs State, p string) (*Outcome, error) {
	var arts [3]*Artifact
	for i, s := range []State{base, mine, theirs} {
		a, err := r.Read(ctx, s, p)
		if err != nil && !errors.Is(err, kind.ErrNoFile) {
			return nil, err
		}
		if a != nil && a.Source != nil && len(a.Source.Files()) == 0 {
			a = nil // a declared folder without files
		}
		arts[i] = a
	}
	b, m, t := arts[0], arts[1], arts[2]
	out := &Outcome{Kind: r.Kinds.Opaque().Name()}
	for _, a := range arts {
		if a != nil {
			out.Kind = a.Kind.Name()
		}
	}
	g := &merge{r: r}
	whole := []element.Conflict{{Address: element.Address{Path: p}}}
	w := g.writer(b, m, t)
	if w == nil {
		out.Conflicts = whole
		out.Merges = m == nil || t == nil // a deletion against an edit
		return out, nil
	}
	out.Merges = true
	if confused(b, m, t) {
		out.Conflicts = whole
		return out, nil
	}
	o, err := g.outcome(p, w, b, m, t)
	if err != nil {
		return nil, err
	}
	if out.Conflicts = o.conflicts; o.written != nil {
		out.Conflicts = append(out.Conflicts, o.written.open...)
	} else if len(out.Conflicts) == 0 {
		out.Conflicts = whole
	}
	return out, nil
}
