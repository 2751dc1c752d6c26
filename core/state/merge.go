package state

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Edit is what becomes of one file of mine in a merge.
type Edit struct {
	Path string
	// Gone takes the file away.
	Gone bool
	// Take is the file of theirs to take as it is; its Digest is in the chest.
	Take File
	// Data is new content, when Take has no mode.
	Data []byte
	Mode chest.Mode
}

// Merged is the outcome of a merge: what to change in mine, by path, and what
// could not be decided. Where a conflict is open, mine stands.
type Merged struct {
	Edits     []Edit
	Conflicts []element.Conflict
	// Artifacts lists the artifacts that both sides had changed, for people.
	Artifacts []Combined
}

// Combined is an artifact that two sides have changed.
type Combined struct {
	Path string
	// Unread names the engine that alone can judge the outcome, and was not there; else
	// it is empty.
	Unread string
}

// AlsoCombined adds artifacts to a list, each once.
func AlsoCombined(list, more []Combined) []Combined {
	for _, a := range more {
		i := slices.IndexFunc(list, func(c Combined) bool { return c.Path == a.Path })
		if i < 0 {
			list = append(list, a)
		} else if a.Unread != "" {
			list[i].Unread = a.Unread
		}
	}
	return list
}

// merge is one run of Merge.
type merge struct {
	r        *Reader
	b, m, t  *Snapshot
	settle   element.Settle
	edits    map[string]Edit
	out      Merged
	done     map[string]bool // files that an artifact's merge has decided
	carried  []carried
	renamed  []renaming
	readings map[string]map[*Snapshot]*Artifact // by path, of artifacts that are looked at twice
	against  []string                           // files that one side moved and the other took away
	// whole tells the choice for each file that can't be merged; empty while it is open.
	whole map[string]element.Keep
}

// Merge combines mine and theirs, two descendants of base. Files that one side
// alone changed are taken as they are; artifacts that both changed are merged
// by element where their kind can write, and are a conflict as a whole where
// it can't. The result of a kind is read again and must be what was asked for.
func (r *Reader) Merge(ctx context.Context, base, mine, theirs State, settle element.Settle) (*Merged, error) {
	g := &merge{r: r, settle: settle, edits: map[string]Edit{}, done: map[string]bool{}, readings: map[string]map[*Snapshot]*Artifact{},
		whole: map[string]element.Keep{}}
	var err1, err2, err3 error
	g.b, err1 = open(ctx, base)
	g.m, err2 = open(ctx, mine)
	g.t, err3 = open(ctx, theirs)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	if err := g.bring(ctx, base, mine, theirs); err != nil {
		return nil, err
	}
	g.followMoves()
	for _, p := range g.against {
		g.wholeFile(p)
	}
	for _, unit := range g.contested() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := g.unit(unit); err != nil {
			return nil, fmt.Errorf("%s: %w", unit, err)
		}
	}
	g.files()
	g.finishMoves()
	g.companions()
	g.clashes()
	for _, e := range g.edits {
		g.out.Edits = append(g.out.Edits, e)
	}
	slices.SortFunc(g.out.Edits, func(a, b Edit) int { return strings.Compare(a.Path, b.Path) })
	slices.SortStableFunc(g.out.Conflicts, func(a, b element.Conflict) int { return strings.Compare(a.Address.Path, b.Address.Path) })
	return &g.out, nil
}

// bring makes sure that what differs between the states is at hand, where they are commits.
func (g *merge) bring(ctx context.Context, states ...State) error {
	var from *chest.Chest
	for _, s := range states {
		if c, ok := s.(Commit); ok {
			from = c.Chest
		}
	}
	if from == nil {
		return nil
	}
	differ := map[string]File{}
	for _, t := range []*Snapshot{g.b, g.m, g.t} {
		if _, ok := t.State.(Commit); !ok {
			continue
		}
		for p, f := range t.files {
			if !g.b.files[p].Same(g.m.files[p]) && !g.b.files[p].Same(g.t.files[p]) && !g.m.files[p].Same(g.t.files[p]) {
				differ[t.Label()+"\n"+p] = f
			}
		}
	}
	return bring(ctx, from, differ)
}

// changedBoth reports whether a file differs on both sides, and differently.
func (g *merge) changedBoth(p string) bool {
	b, m, t := g.b.files[p], g.m.files[p], g.t.files[p]
	return !m.Same(t) && !m.Same(b) && !t.Same(b)
}

// contested lists the artifacts of which both sides changed something: for a
// declared folder any two of its files, for a scene also its buffers.
func (g *merge) contested() []string {
	mine, theirs, both := map[string]bool{}, map[string]bool{}, map[string]bool{}
	all := map[string]bool{}
	for _, t := range []*Snapshot{g.b, g.m, g.t} {
		for p := range t.files {
			all[p] = true
		}
	}
	for p := range all {
		u := g.r.Unit(p)
		b, m, t := g.b.files[p], g.m.files[p], g.t.files[p]
		mine[u] = mine[u] || !m.Same(b)
		theirs[u] = theirs[u] || !t.Same(b)
		if mine[u] && theirs[u] && (u != p || g.changedBoth(p)) {
			both[u] = true
		}
	}
	for p := range all {
		if !g.r.Kinds.Gathers(p) {
			continue
		}
		if g.sceneContested(p, mine, theirs) {
			both[p] = true
		} else {
			delete(g.readings, p)
		}
	}
	var out []string
	for u := range both {
		if !g.done[u] {
			out = append(out, u)
		}
	}
	// What is made of others first: it decides about them.
	slices.SortFunc(out, func(x, y string) int {
		gx, gy := g.r.Kinds.Gathers(x), g.r.Kinds.Gathers(y)
		if gx != gy {
			if gx {
				return -1
			}
			return 1
		}
		return strings.Compare(x, y)
	})
	return out
}

// sceneContested reports whether both sides changed a scene or its buffers.
func (g *merge) sceneContested(p string, mine, theirs map[string]bool) bool {
	m, t := mine[p], theirs[p]
	for _, s := range []*Snapshot{g.b, g.m, g.t} {
		a, err := g.once(s, p)
		if err != nil || a == nil {
			continue
		}
		for _, u := range a.Reading.Uses {
			q := path.Join(path.Dir(p), u)
			m, t = m || mine[q], t || theirs[q]
		}
	}
	return m && t
}

// once reads an artifact that will be asked for again.
func (g *merge) once(s *Snapshot, p string) (*Artifact, error) {
	if a, done := g.readings[p][s]; done {
		return a, nil
	}
	a, err := g.r.ignoreMissing(s, p)
	if err != nil {
		return nil, err
	}
	if g.readings[p] == nil {
		g.readings[p] = map[*Snapshot]*Artifact{}
	}
	g.readings[p][s] = a
	return a, nil
}

// unit merges one contested artifact.
func (g *merge) unit(p string) error {
	if g.done[p] {
		return nil
	}
	b, err1 := g.once(g.b, p)
	m, err2 := g.once(g.m, p)
	t, err3 := g.once(g.t, p)
	delete(g.readings, p)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	g.out.Artifacts = append(g.out.Artifacts, Combined{Path: p})
	if w := g.writer(b, m, t); w != nil && !confused(b, m, t) {
		ok, err := g.elements(p, w, b, m, t)
		if err != nil || ok {
			return err
		}
	}
	if _, folder := g.r.Manifest.Declared(p); folder && (m == nil || m.Source == nil || len(m.Source.Files()) != 1) {
		g.folderByFiles(p)
		return nil
	}
	g.wholeFile(p)
	return nil
}

// writer gives the kind that can merge the three versions, nil for none.
func (g *merge) writer(b, m, t *Artifact) kind.Writer {
	if m == nil || t == nil || m.Kind.Name() != t.Kind.Name() || b != nil && b.Kind.Name() != m.Kind.Name() {
		return nil
	}
	for _, a := range []*Artifact{b, m, t} {
		if a != nil && a.Why != nil {
			return nil
		}
	}
	if _, holds := kind.Ability[kind.Container](m.Kind); holds {
		for _, a := range []*Artifact{b, t} { // one was taken apart further than the other
			if a != nil && a.Reading.Root.Type != m.Reading.Root.Type {
				return nil
			}
		}
	}
	w, _ := m.Kind.(kind.Writer)
	return w
}

// elements merges by element, and how the elements are written; ok is false when no
// outcome could be written that reads as what is meant.
func (g *merge) elements(p string, w kind.Writer, b, m, t *Artifact) (ok bool, err error) {
	o, err := g.outcome(p, w, b, m, t)
	if err != nil {
		return false, err
	}
	if o.written == nil {
		return g.unreadable(o.witness, m, t), nil
	}
	if u, ok := kind.Ability[kind.Unproven](w); ok {
		g.out.Artifacts[len(g.out.Artifacts)-1].Unread = u.Engine()
	}
	g.put(p, m, o.written.files)
	g.settled(p, m, t)
	g.out.Conflicts = append(append(g.out.Conflicts, o.conflicts...), o.written.open...)
	return true, nil
}

// outcome is what three versions of an artifact come to.
type outcome struct {
	*witness
	// written is nil when nothing could be written that reads as what is meant.
	written *written
	// conflicts are those of the elements.
	conflicts []element.Conflict
}

// outcome merges three versions of an artifact, and notes nothing.
func (g *merge) outcome(p string, w kind.Writer, b, m, t *Artifact) (*outcome, error) {
	baseRoot := &element.Element{Type: m.Reading.Root.Type, Ordered: m.Reading.Root.Ordered}
	contents := []kind.Content{m.Reading.Content, t.Reading.Content}
	if b != nil {
		baseRoot = b.Reading.Root
		contents = append(contents, b.Reading.Content)
	}
	x := &witness{r: g.r, path: p, kind: w, content: kind.Contents(contents...)}
	conflicts, err := x.mean(g.settle, baseRoot, m.Reading.Root, t.Reading.Root)
	if err != nil {
		return &outcome{witness: x}, nil
	}
	var err1, err2, err3 error
	x.b, err1 = newSide(b)
	x.m, err2 = newSide(m)
	x.t, err3 = newSide(t)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	out, err := x.run()
	return &outcome{x, out, conflicts}, err
}

// mean merges the elements of three versions, on a common ground where a kind has one. An
// error says why they can't be merged.
func (x *witness) mean(settle element.Settle, b, m, t *element.Element) ([]element.Conflict, error) {
	var ground *kind.Alignment
	if k, ok := kind.Ability[kind.Aligner](x.kind); ok {
		var err error
		if ground, err = k.Align(b, m, t); err != nil {
			return nil, err
		}
	}
	if ground != nil {
		b, m, t = ground.Base, ground.Mine, ground.Theirs
	}
	shown := func(c element.Conflict) element.Conflict {
		if ground != nil {
			return ground.Show(c)
		}
		return c
	}
	x.settle = func(c element.Conflict) (element.Choice, bool) {
		if settle == nil {
			return element.Choice{}, false
		}
		choice, ok := settle(c)
		x.settled = x.settled || ok
		return choice, ok
	}
	ask := x.settle
	if ground != nil {
		ask = func(c element.Conflict) (element.Choice, bool) {
			choice, ok := x.settle(shown(c))
			return ground.Take(c, choice), ok
		}
	}
	var conflicts []element.Conflict
	x.meant, conflicts = element.MergeBy(kind.RulesOf(x.kind), x.path, b, m, t, ask)
	if !x.settled {
		conflicts = append(conflicts, x.vouch(b, m, t)...)
	}
	for i, c := range conflicts {
		conflicts[i] = shown(c)
	}
	if ground == nil {
		return conflicts, nil
	}
	var err error
	x.meant, err = ground.Back(x.meant)
	return conflicts, err
}

// unreadable makes one conflict of a folder whose outcome can't be read, though both sides
// can; false for other artifacts, which are a conflict as a whole. One side stands.
func (g *merge) unreadable(x *witness, m, t *Artifact) bool {
	if _, folder := g.r.Manifest.Declared(x.path); !folder || x.unread == nil || isFile(g.m, x.path) {
		return false
	}
	c := element.Conflict{Address: element.Address{Path: x.path, Property: element.ReadingProperty},
		Theirs: element.Side{Value: element.TextValue(x.unread.Error())},
		Allows: []element.Keep{element.KeepMine, element.KeepTheirs}}
	choice, ok := x.settle(c)
	switch {
	case !ok || !slices.Contains(c.Allows, choice.Keep):
		g.out.Conflicts = append(g.out.Conflicts, c)
	case choice.Keep == element.KeepTheirs:
		g.put(x.path, m, x.t.files)
	}
	g.settled(x.path, m, t)
	return true
}

// put makes edits of the files that an artifact comes to.
func (g *merge) put(p string, m *Artifact, files map[string][]byte) {
	_, folder := g.r.Manifest.Declared(p)
	folder = folder && m.Source.Path() == p && !isFile(g.m, p)
	place := func(name string) string {
		if folder {
			return p + "/" + name
		}
		return path.Join(path.Dir(p), name)
	}
	for name, data := range files {
		q := place(name)
		mode := g.mode(q)
		if was, there := g.m.files[q]; there && was.Mode == mode && was.Digest == element.DigestOf(data) {
			continue
		}
		g.edits[q] = Edit{Path: q, Data: data, Mode: mode}
	}
	for _, name := range m.Source.Files() {
		if _, stays := files[name]; !stays {
			g.edits[place(name)] = Edit{Path: place(name), Gone: true}
		}
	}
}

func isFile(t *Snapshot, p string) bool { _, ok := t.files[p]; return ok }

// settled marks the files that a merge by element has decided about.
func (g *merge) settled(p string, arts ...*Artifact) {
	g.done[p] = true
	for _, a := range arts {
		for _, u := range a.Reading.Uses {
			g.done[path.Join(path.Dir(p), u)] = true
		}
	}
	for _, t := range []*Snapshot{g.b, g.m, g.t} {
		for q := range t.files {
			if g.r.Unit(q) == p {
				g.done[q] = true
			}
		}
	}
}

// overlay is a source with some files replaced.
type overlay struct {
	kind.Source
	files map[string][]byte
}

func (o overlay) Files() []string {
	var out []string
	for _, n := range o.Source.Files() {
		if data, ok := o.files[n]; !ok || data != nil {
			out = append(out, n)
		}
	}
	for n, data := range o.files {
		if data != nil && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

func (o overlay) File(name string) ([]byte, error) {
	if data, ok := o.files[name]; ok && data != nil {
		return data, nil
	}
	return o.Source.File(name)
}

// folderByFiles merges a declared folder that its kind can't read, file by file.
func (g *merge) folderByFiles(p string) {
	for _, q := range g.paths() {
		if g.r.Unit(q) == p && g.changedBoth(q) && !g.done[q] {
			g.wholeFile(q)
		}
	}
}

func (g *merge) paths() []string {
	all := map[string]bool{}
	for _, t := range []*Snapshot{g.b, g.m, g.t} {
		for p := range t.files {
			all[p] = true
		}
	}
	var out []string
	for p := range all {
		out = append(out, p)
	}
	slices.Sort(out)
	return out
}

// wholeFile makes a conflict of a file that can't be merged.
func (g *merge) wholeFile(p string) {
	g.done[p] = true
	b, m, t := g.b.files[p], g.m.files[p], g.t.files[p]
	if g.apart(p) {
		return
	}
	c := element.Conflict{Address: element.Address{Path: p}, Base: side(b), Mine: side(m), Theirs: side(t),
		Allows: []element.Keep{element.KeepMine, element.KeepTheirs, element.KeepBase}}
	if m.Mode != 0 && t.Mode != 0 {
		c.Allows = append(c.Allows, element.KeepBoth)
	}
	choice, ok := element.Choice{}, false
	if g.settle != nil {
		choice, ok = g.settle(c)
	}
	if !ok || !slices.Contains(c.Allows, choice.Keep) {
		g.out.Conflicts = append(g.out.Conflicts, c)
		g.whole[p] = ""
		return
	}
	g.whole[p] = choice.Keep
	switch choice.Keep {
	case element.KeepTheirs:
		g.take(p, t)
	case element.KeepBase:
		g.take(p, b)
	case element.KeepBoth:
		g.take(beside(p, g.m), t)
	}
}

func (g *merge) take(p string, f File) { g.edits[p] = Edit{Path: p, Take: f, Gone: f.Mode == 0} }

// beside gives a free name for theirs next to mine: `reef (theirs).png`.
func beside(p string, t *Snapshot) string {
	ext := path.Ext(p)
	for n := 1; ; n++ {
		mark := " (theirs)"
		if n > 1 {
			mark = fmt.Sprintf(" (theirs %d)", n)
		}
		if q := strings.TrimSuffix(p, ext) + mark + ext; !isFile(t, q) {
			return q
		}
	}
}

func side(f File) element.Side {
	if f.Mode == 0 {
		return element.Side{}
	}
	return element.Side{Value: element.BytesValue(f.Digest, f.Size)}
}

// files takes what theirs alone changed, and finds deletions against edits.
func (g *merge) files() {
	for _, p := range g.paths() {
		b, m, t := g.b.files[p], g.m.files[p], g.t.files[p]
		switch {
		case g.done[p], m.Same(t), t.Same(b):
		case m.Same(b):
			g.take(p, t)
		default:
			g.wholeFile(p)
		}
	}
}
