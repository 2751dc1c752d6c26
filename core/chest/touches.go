package chest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// touches tells what a commit to be made does: the paths that it has otherwise than all
// of its parents, none when there is no parent. Some parents may not be recorded yet.
func (c *Chest) touches(ctx context.Context, d Draft, unrecorded ...ledger.Commit) (Traces, error) {
	var parents []ledger.Commit
	for _, id := range []ledger.ID{d.Tip, d.Merged} {
		if id == (ledger.ID{}) {
			continue
		}
		p, err := c.Commit(ctx, id)
		if err != nil {
			return Traces{}, err
		}
		parents = append(parents, p)
	}
	parents = append(parents, unrecorded...)
	if len(parents) == 0 {
		return Traces{}, nil
	}
	return c.tracesOf(parents, d.Tree)
}

// Traces is what is noted of a commit beside itself.
type Traces struct {
	// Touches are the paths that it has otherwise than all that it stands on; nil for too many.
	Touches []ledger.Touch
	// Deed names what it did; empty for none.
	Deed string `json:",omitempty"`
}

// tracesOf gives what is noted of a tree that stands on commits.
func (c *Chest) tracesOf(parents []ledger.Commit, tree content.Digest) (t Traces, err error) {
	if t.Touches, err = c.Touches(parents, tree); err != nil || len(parents) > 1 {
		return t, err
	}
	t.Deed, err = c.deed(parents[0].Tree, tree)
	return t, err
}

// deed names what leads from one tree to another: SHA-256 over the paths that differ, each
// with its mode and content on both sides. It is empty for nothing, and for what touches
// too much to be told from other such work.
func (c *Chest) deed(was, is content.Digest) (string, error) {
	pairs, err := c.Diff(was, is)
	if err != nil || len(pairs) == 0 || len(pairs) > ledger.MaxTouches {
		return "", err
	}
	slices.SortFunc(pairs, func(a, b Pair) int { return strings.Compare(a.Path, b.Path) })
	h := sha256.New()
	for _, p := range pairs {
		fmt.Fprintf(h, "%d %s", len(p.Path), p.Path)
		for _, f := range []File{p.Was, p.Is} {
			h.Write(append([]byte{byte(f.Mode)}, f.Digest[:]...))
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Touches tells which paths a tree has otherwise than all of the commits that it
// stands on, and what they were called in the first; nil when they are more than
// ledger.MaxTouches.
func (c *Chest) Touches(parents []ledger.Commit, tree content.Digest) ([]ledger.Touch, error) {
	pairs, err := c.Diff(parents[0].Tree, tree)
	if err != nil {
		return nil, err
	}
	moved := Moved(pairs)
	for _, p := range parents[1:] {
		others, err := c.Diff(p.Tree, tree)
		if err != nil {
			return nil, err
		}
		differs := make(map[string]bool, len(others))
		for _, o := range others {
			differs[o.Path] = true
		}
		n := 0
		for _, p := range pairs {
			if differs[p.Path] {
				pairs[n] = p
				n++
			}
		}
		pairs = pairs[:n]
	}
	if len(pairs) > ledger.MaxTouches {
		return nil, nil
	}
	out := make([]ledger.Touch, 0, len(pairs))
	for _, p := range pairs {
		out = append(out, ledger.Touch{Path: p.Path, Gone: p.Is.Mode == 0, From: moved[p.Path]})
	}
	return out, nil
}
