package state

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Difference is an artifact that two states do not have alike.
type Difference struct {
	Path string
	// Kind is the word for the artifact's kind.
	Kind string
	// Changes lists what differs, in the artifact's own terms. A whole artifact
	// that came, went or moved is one change at its path.
	Changes []element.Change
	// Why says what its kind could not read, when it is treated as opaque; Unread says it of
	// each version, in a sentence that names the file. What can't be read is never alike.
	Why    string
	Unread []string
	// Notes say more of some changes, by the property of the root that changed.
	Notes map[string]string
	// Quiet says that only bytes without meaning differ.
	Quiet bool
	// Noise says, of what is quiet, that it is what the project calls noise.
	Noise bool
}

// adoptModes lets files of which one state does not know whether they may be run have the mode
// that they have in the other.
func adoptModes(a, b *Snapshot) {
	for _, pair := range [][2]*Snapshot{{a, b}, {b, a}} {
		if _, unknown := pair[0].State.(Memory); !unknown {
			continue
		}
		for p, f := range pair[0].files {
			if pair[1].files[p].Mode == chest.Executable {
				f.Mode = chest.Executable
				pair[0].files[p] = f
			}
		}
	}
}

// Compare gives the artifacts that differ between two states, by path. paths
// narrows it; none means all. Where one state is Scoped, only what it speaks of
// is compared.
func (r *Reader) Compare(ctx context.Context, from, to State, paths []string) ([]Difference, error) {
	a, b, err := r.openBoth(ctx, from, to)
	if err != nil {
		return nil, err
	}
	adoptModes(a, b)
	moved := movedFiles(a, b)
	units := map[string]bool{}
	for p := range a.files {
		if !a.files[p].Same(b.files[p]) {
			units[r.Unit(p)] = true
		}
	}
	for p := range b.files {
		if !a.files[p].Same(b.files[p]) {
			units[r.Unit(p)] = true
		}
	}
	r.addUsers(a, b, units)
	sorted := make([]string, 0, len(units))
	for p := range units {
		sorted = append(sorted, p)
	}
	slices.Sort(sorted)
	var out []Difference
	used := map[string]bool{}
	for _, p := range sorted {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if !Under(paths, p) && !Under(paths, moved.to[p]) || !inScope(from, p) || !inScope(to, p) {
			continue
		}
		if moved.to[p] != "" {
			continue
		}
		d, uses, err := r.compareUnit(a, b, moved, p)
		if err != nil {
			return nil, err
		}
		if d == nil {
			continue
		}
		out = append(out, *d)
		if !d.Quiet {
			for _, u := range uses {
				used[path.Join(path.Dir(p), u)] = true
			}
		}
	}
	return slices.DeleteFunc(out, func(d Difference) bool { return used[d.Path] }), nil
}

// inScope reports whether a state speaks of a path.
func inScope(s State, p string) bool {
	scoped, ok := s.(Scoped)
	return !ok || Under(scoped.Scope(), p)
}

// moves pairs files of equal content under another path.
type moves struct{ from, to map[string]string }

func movedFiles(a, b *Snapshot) moves {
	var pairs []chest.Pair
	for p, f := range a.files {
		if _, stays := b.files[p]; !stays {
			pairs = append(pairs, chest.Pair{Path: p, Was: f})
		}
	}
	for p, f := range b.files {
		if _, was := a.files[p]; !was {
			pairs = append(pairs, chest.Pair{Path: p, Is: f})
		}
	}
	m := moves{chest.Moved(pairs), map[string]string{}}
	for n, o := range m.from {
		m.to[o] = n
	}
	return m
}

// addUsers adds the files that may be made of ones that differ, though they themselves do not.
func (r *Reader) addUsers(a, b *Snapshot, units map[string]bool) {
	folders := map[string]bool{}
	for p := range units {
		folders[path.Dir(p)] = true
	}
	for p := range b.files {
		if _, both := a.files[p]; both && folders[path.Dir(p)] && r.Kinds.Gathers(p) {
			units[p] = true
		}
	}
}

func (r *Reader) compareUnit(a, b *Snapshot, moved moves, p string) (*Difference, []string, error) {
	old := p
	if from := moved.from[p]; from != "" {
		old = from
	}
	x, y, ok := r.readBeside(a, b, p)
	if !ok {
		var err error
		if x, err = r.ignoreMissing(a, old); err != nil {
			return nil, nil, err
		}
		if y, err = r.ignoreMissing(b, p); err != nil {
			return nil, nil, err
		}
	}
	whole := func(c element.ChangeKind, art *Artifact) *Difference {
		d := &Difference{Path: p, Kind: art.Kind.Name(),
			Changes: []element.Change{{Kind: c, Address: element.Address{Path: p}, Element: summary(art)}}}
		if art.Why != nil {
			d.Why = art.Why.Error()
		}
		return d
	}
	switch {
	case x == nil && y == nil:
		return nil, nil, nil
	case x == nil:
		return whole(element.Added, y), y.Reading.Uses, nil
	case y == nil:
		return whole(element.Removed, x), x.Reading.Uses, nil
	case old != p:
		d := whole(element.Moved, y)
		d.Changes[0].From, d.Changes[0].To = element.TextValue(old), element.TextValue(p)
		return d, y.Reading.Uses, nil
	}
	d := r.contentChanges(a, b, x, y)
	if d.Quiet && a.files[p].Same(b.files[p]) && (len(y.Reading.Uses) > 0 || len(d.Unread) > 0) {
		return nil, nil, nil // the scene is here for its buffers, which are alike, or missing in both
	}
	return d, y.Reading.Uses, nil
}

// contentChanges compares two versions of one artifact; versions of which only
// one can be read are compared as opaque.
func (r *Reader) contentChanges(a, b *Snapshot, x, y *Artifact) *Difference {
	p := y.Path
	d := &Difference{Path: p, Kind: y.Kind.Name()}
	for _, art := range []*Artifact{x, y} {
		if art.Why != nil {
			d.Why = art.Why.Error()
			if text := unread(p, art); !slices.Contains(d.Unread, text) {
				d.Unread = append(d.Unread, text)
			}
		}
	}
	fx, fy := a.files[p], b.files[p]
	opaque := r.Kinds.Opaque().Name()
	if x.Kind.Name() != y.Kind.Name() || y.Kind.Name() == opaque {
		d.Kind = opaque
		if fx.Digest != fy.Digest {
			d.Changes = append(d.Changes, element.Change{Kind: element.Edited, Address: element.Address{Path: p},
				From: element.BytesValue(fx.Digest, fx.Size), To: element.BytesValue(fy.Digest, fy.Size)})
			if x.Kind.Name() == opaque && y.Kind.Name() == opaque {
				d.Notes = measure(x, y, d.Changes)
			}
		}
		if _, single := b.files[p]; !single {
			d.Changes = append(d.Changes, fileChanges(p, x, y)...)
		}
		if len(d.Changes) == 0 && len(d.Unread) > 0 && !(fx.Same(fy) && why(x).Equal(why(y))) {
			d.Changes = []element.Change{{Kind: element.Edited, Address: element.Address{Path: p, Property: element.ReadingProperty},
				From: why(x), To: why(y)}}
		}
	} else {
		is := y.Reading.Root
		if k, ok := kind.Ability[kind.Worded](y.Kind); ok {
			is = k.Reword(x.Reading.Root, is)
		}
		d.Changes = element.Compare(x.Reading.Root, is).Changes(p)
		d.Notes = measure(x, y, d.Changes)
	}
	if fx.Mode != fy.Mode && fx.Mode != 0 && fy.Mode != 0 {
		d.Changes = append(d.Changes, element.Change{Kind: element.Edited, Address: element.Address{Path: p, Property: "file mode"},
			From: element.TextValue(modeText(fx.Mode)), To: element.TextValue(modeText(fy.Mode))})
	}
	if len(d.Changes) == 0 && len(d.Unread) > 0 && fx.Digest != fy.Digest { // nobody can say that it means nothing
		d.Changes = append(d.Changes, element.Change{Kind: element.Edited, Address: element.Address{Path: p},
			From: element.BytesValue(fx.Digest, fx.Size), To: element.BytesValue(fy.Digest, fy.Size)})
	}
	d.Quiet = len(d.Changes) == 0
	d.Noise = d.Quiet && x.Reading.Hidden != y.Reading.Hidden
	return d
}

// unread says that a version of an artifact can't be read, with its file when the reason
// begins with its name.
func unread(p string, a *Artifact) string {
	text := a.Why.Error()
	if a.Source != nil {
		for _, name := range a.Source.Files() {
			if rest, ok := strings.CutPrefix(text, name+", "); ok && path.Base(p) != name {
				return path.Join(p, name) + " can't be read, " + rest
			}
		}
	}
	return p + " can't be read: " + text
}

func why(a *Artifact) element.Value {
	if a.Why == nil {
		return element.Value{}
	}
	return element.TextValue(a.Why.Error())
}

// fileChanges tells two versions of a folder apart file by file.
func fileChanges(p string, x, y *Artifact) []element.Change {
	was, is := fileValues(x), fileValues(y)
	var out []element.Change
	for _, name := range slices.Sorted(maps.Keys(namesOf(was, is))) {
		c := element.Change{Kind: element.Edited, Address: element.Address{Path: path.Join(p, name)}, From: was[name], To: is[name]}
		switch {
		case was[name].Equal(is[name]):
			continue
		case was[name].IsAbsent():
			c.Kind = element.Added
		case is[name].IsAbsent():
			c.Kind = element.Removed
		}
		out = append(out, c)
	}
	return out
}

func fileValues(a *Artifact) map[string]element.Value {
	out := map[string]element.Value{}
	if a.Source == nil {
		return out
	}
	for _, name := range a.Source.Files() {
		if data, err := a.Source.File(name); err == nil {
			out[name] = element.BytesValue(element.DigestOf(data), int64(len(data)))
		}
	}
	return out
}

// measure asks the kind of two versions how much the root's properties differ.
func measure(x, y *Artifact, changes []element.Change) map[string]string {
	m, ok := y.Kind.(kind.Measurer)
	if !ok || x.Source == nil || y.Source == nil ||
		!slices.ContainsFunc(changes, func(c element.Change) bool { return len(c.Address.Steps) == 0 }) {
		return nil
	}
	notes, err := m.Measure(x.Source, y.Source)
	if err != nil {
		return nil // what differs is listed anyway
	}
	return notes
}

// Note gives what is said beyond a change itself; empty for nothing.
func (d *Difference) Note(c element.Change) string {
	if len(c.Address.Steps) > 0 || c.Kind != element.Edited {
		return ""
	}
	return d.Notes[c.Address.Property]
}

func modeText(m chest.Mode) string {
	switch m {
	case chest.Executable:
		return "executable"
	case chest.Link:
		return "link"
	}
	return "plain"
}

// summary gives an element whose gist says what an artifact is.
func summary(a *Artifact) *element.Element {
	e := *a.Reading.Root
	gist := a.Kind.Name()
	if e.Gist != "" {
		gist += ", " + e.Gist
	}
	e.Gist = gist + contents(a)
	return &e
}

// contents counts what is inside, by type: ", 4 nodes, 2 meshes".
func contents(a *Artifact) string {
	if v := a.Reading.Root.Prop("content"); v.Sort() == element.Bytes {
		_, n := v.Content()
		return ", " + element.SizeText(n)
	}
	count, order := map[string]int{}, []string{}
	for _, k := range a.Reading.Root.Children {
		if count[k.Type] == 0 {
			order = append(order, k.Type)
		}
		count[k.Type]++
	}
	var out strings.Builder
	for i, typ := range order {
		if i == 5 {
			out.WriteString(" …")
			break
		}
		fmt.Fprintf(&out, ", %d %s", count[typ], plural(typ, count[typ]))
	}
	return out.String()
}

func plural(word string, n int) string {
	switch {
	case n == 1:
		return word
	case strings.HasSuffix(word, "s") || strings.HasSuffix(word, "x") || strings.HasSuffix(word, "sh"):
		return word + "es"
	}
	return word + "s"
}
