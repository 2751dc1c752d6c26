package state

import (
	"bytes"
	"hash/maphash"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/element"
)

// followMoves lets what one side did to a file meet what the other side did to it under
// another path. Base and theirs are seen under the path that mine gave a file; mine and
// base under the one that theirs gave it, and the move is then carried out. A file that
// both moved, to different places, is a conflict of its name, and one that a side moved and
// the other took away a conflict of the whole.
func (g *merge) followMoves() {
	mine, theirs := g.moves(g.m, g.t), g.moves(g.t, g.m)
	keepFree(mine, theirs, g.t)
	keepFree(theirs, mine, g.m)
	g.b, g.m, g.t = g.b.clone(), g.m.clone(), g.t.clone()
	olds := map[string]bool{}
	for o := range mine {
		olds[o] = true
	}
	for o := range theirs {
		olds[o] = true
	}
	for _, o := range slices.Sorted(maps.Keys(olds)) {
		g.follow(o, mine[o], theirs[o])
	}
}

// keepFree forgets moves to a path at which the other side has something of its own.
func keepFree(moves, others map[string]string, other *Snapshot) {
	for o, n := range moves {
		if _, there := other.files[n]; there && others[o] != n {
			delete(moves, o)
		}
	}
}

// follow brings the versions of one file together; m and t are where the sides moved it,
// empty where they did not.
func (g *merge) follow(o, m, t string) {
	_, atMine := g.m.files[o]
	_, atTheirs := g.t.files[o]
	switch {
	case m != "" && t == "" && atTheirs:
		g.b.alias(o, m)
		g.t.alias(o, m)
	case m == "" && t != "" && atMine:
		g.b.alias(o, t)
		g.m.alias(o, t)
		g.carried = append(g.carried, carried{o, t})
	case m != "" && m == t:
		g.b.alias(o, m)
	case m != "" && t != "":
		g.b.alias(o, m)
		g.t.alias(t, m)
		g.renamed = append(g.renamed, renaming{o, m, t})
	case m != "": // theirs took it away
		g.b.alias(o, m)
		g.against = append(g.against, m)
	default:
		g.b.alias(o, t)
		g.against = append(g.against, t)
	}
}

// carried is a file of mine that moves as theirs did.
type carried struct{ from, to string }

// renaming is a file that both sides moved.
type renaming struct{ base, mine, theirs string }

// finishMoves carries out what the moves of theirs ask for, when everything else is decided.
func (g *merge) finishMoves() {
	for _, c := range g.carried {
		g.edits[c.from] = Edit{Path: c.from, Gone: true}
		if _, decided := g.edits[c.to]; !decided {
			f := g.m.files[c.to]
			f.Path = c.from
			g.edits[c.to] = Edit{Path: c.to, Take: f}
		}
	}
	for _, r := range g.renamed {
		text := func(p string) element.Side { return element.Side{Value: element.TextValue(p)} }
		c := element.Conflict{Address: element.Address{Path: r.mine, Property: element.NameProperty}, Base: text(r.base),
			Mine: text(r.mine), Theirs: text(r.theirs),
			Allows: []element.Keep{element.KeepMine, element.KeepTheirs}}
		choice, ok := element.Choice{}, false
		if g.settle != nil {
			choice, ok = g.settle(c)
		}
		if ok && choice.Keep == element.KeepBase { // what several bases don't agree on
			choice.Keep = element.KeepMine
		}
		if !ok || !slices.Contains(c.Allows, choice.Keep) {
			g.out.Conflicts = append(g.out.Conflicts, c)
			continue
		}
		if choice.Keep == element.KeepTheirs {
			g.rename(r.mine, r.theirs)
		}
	}
}

// rename puts what the merge has come to at one path under another.
func (g *merge) rename(from, to string) {
	e, edited := g.edits[from]
	if !edited {
		f := g.m.files[from]
		f.Path = from
		e = Edit{Take: f}
	}
	if !e.Gone {
		e.Path = to
		g.edits[to] = e
	}
	g.edits[from] = Edit{Path: from, Gone: true}
}

// clone gives a snapshot whose paths can be changed.
func (t *Snapshot) clone() *Snapshot {
	out := *t
	out.files, out.under = maps.Clone(t.files), maps.Clone(t.under)
	return &out
}

// alias lets a file be seen under another path; the file itself says where it lies.
func (t *Snapshot) alias(from, to string) {
	f, ok := t.files[from]
	if !ok {
		return
	}
	if t.under == nil {
		t.under = map[string]string{}
	}
	real := from
	if r, again := t.under[from]; again {
		real = r
		delete(t.under, from)
	}
	delete(t.files, from)
	t.files[to], t.under[to] = f, real
}

// Open reads a file, under the path that it is seen under.
func (t *Snapshot) Open(p string) (io.ReadCloser, error) {
	if real, ok := t.under[p]; ok {
		p = real
	}
	return t.State.Open(p)
}

// moves gives where one side moved files of the base: those of equal content, and, where
// the other side has changed a file too, those that are like it.
func (g *merge) moves(side, other *Snapshot) map[string]string {
	out := map[string]string{}
	for o, n := range movedFiles(g.b, side).to {
		if g.r.Unit(o) == o && g.r.Unit(n) == n { // artifacts of their own
			out[o] = n
		}
	}
	taken := map[string]bool{}
	for _, n := range out {
		taken[n] = true
	}
	var came []string
	for p, f := range side.files {
		if _, was := g.b.files[p]; !was && !taken[p] && f.Mode != chest.Folder && f.Mode != chest.Link && f.Size > 0 &&
			f.Size <= largestLike {
			came = append(came, p)
		}
	}
	if len(came) == 0 {
		return out
	}
	slices.Sort(came)
	for _, o := range slices.Sorted(maps.Keys(g.b.files)) {
		f := g.b.files[o]
		_, stays := side.files[o]
		if stays || out[o] != "" || other.files[o].Same(f) || f.Mode == chest.Folder || f.Size == 0 || f.Size > largestLike {
			continue
		}
		if g.r.Unit(o) != o {
			continue
		}
		if n := g.likest(o, side, came, taken); n != "" && g.r.Unit(n) == n {
			out[o], taken[n] = n, true
		}
	}
	return out
}

const (
	// largestLike is the size in bytes up to which files are compared to find one that
	// was moved and edited, mostLike how many they may be.
	largestLike = 1 << 20
	mostLike    = 200
	// likeness is the share of content that a moved file keeps; with the name it has
	// been given elsewhere it may keep less.
	likeness, namedLikeness = 0.6, 0.3
)

// likest gives the new file that is most like an old one.
func (g *merge) likest(o string, side *Snapshot, came []string, taken map[string]bool) string {
	old, err := ReadFile(g.b, o)
	if err != nil {
		return ""
	}
	best, most, tried := "", 0.0, 0
	for _, n := range came {
		if taken[n] || !strings.EqualFold(path.Ext(n), path.Ext(o)) {
			continue
		}
		if tried++; tried > mostLike {
			break
		}
		data, err := ReadFile(side, n)
		if err != nil {
			continue
		}
		like, least := alike(old, data), likeness
		if path.Base(n) == path.Base(o) {
			least = namedLikeness
		}
		if like >= least && like > most {
			best, most = n, like
		}
	}
	return best
}

var likeSeed = maphash.MakeSeed()

// alike gives the share of two contents that is in runs which both have, from 0 to 1. A run
// ends at the byte of a line's end, so that the measure fits texts, and cuts other
// content where itself says.
func alike(a, b []byte) float64 {
	if len(a)+len(b) == 0 {
		return 1
	}
	runs := map[uint64]int{}
	for run := range bytes.Lines(a) {
		runs[maphash.Bytes(likeSeed, run)]++
	}
	shared := 0
	for run := range bytes.Lines(b) {
		if h := maphash.Bytes(likeSeed, run); runs[h] > 0 {
			runs[h]--
			shared += len(run)
		}
	}
	return 2 * float64(shared) / float64(len(a)+len(b))
}
