// Package history answers what was done when, by whom, and why: the commits of
// a branch or of one path, through renames, and who last changed each element
// of an artifact.
package history

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// Query says which commits are wanted. Empty fields leave all.
type Query struct {
	// Path narrows to commits that changed a file or folder; renames of a file
	// are followed.
	Path string
	// Author and Text are looked for anywhere in the name or message, without
	// regard to capitals; Item is the whole work item.
	Author, Text, Item string
	Since, Until       time.Time
	// Limit is the greatest number of commits; 0 for all.
	Limit int
}

func (q Query) fits(c ledger.Commit) bool {
	holds := func(s, part string) bool { return strings.Contains(strings.ToLower(s), strings.ToLower(part)) }
	return holds(c.Author, q.Author) && holds(c.Message, q.Text) && (q.Item == "" || strings.EqualFold(q.Item, c.Item)) &&
		(q.Since.IsZero() || !c.Time.Before(q.Since)) && (q.Until.IsZero() || !c.Time.After(q.Until))
}

// Entry is a commit that was found.
type Entry struct {
	Commit ledger.Commit
	// Path is what the queried path was called then; From what it was called
	// before, when this commit moved it.
	Path, From string
	// Version counts the versions of the path from 1, the oldest; Versions is how
	// many there are.
	Version, Versions int
}

// List gives the commits from a tip backwards, descendants first, and whether
// there are more than the query's limit.
func List(ctx context.Context, c *chest.Chest, tip ledger.ID, q Query) (out []Entry, more bool, err error) {
	t := &tracer{chest: c, commits: map[ledger.ID]ledger.Commit{}, names: map[ledger.ID]string{tip: q.Path}}
	var all []ledger.Commit
	err = c.Ancestors(ctx, tip, func(commit ledger.Commit) (bool, error) {
		t.commits[commit.ID] = commit
		all = append(all, commit)
		if q.Path == "" && q.fits(commit) {
			out = append(out, Entry{Commit: commit})
		}
		return q.Path != "" || q.Limit == 0 || len(out) <= q.Limit, nil
	})
	if err != nil {
		return nil, false, err
	}
	if q.Path != "" {
		if out, err = t.trace(ctx, all); err != nil {
			return nil, false, err
		}
		for i := range out {
			out[i].Version, out[i].Versions = len(out)-i, len(out)
		}
		out = slices.DeleteFunc(out, func(e Entry) bool { return !q.fits(e.Commit) })
	}
	if q.Limit > 0 && len(out) > q.Limit {
		return out[:q.Limit], true, nil
	}
	return out, false, nil
}

// tracer follows one path through the graph. names holds what it is called in
// each commit that was reached.
type tracer struct {
	chest   *chest.Chest
	commits map[ledger.ID]ledger.Commit
	names   map[ledger.ID]string
}

func (t *tracer) trace(ctx context.Context, all []ledger.Commit) ([]Entry, error) {
	var out []Entry
	for _, c := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		e, changed, err := t.step(c)
		if err != nil {
			return nil, chest.Explain(err)
		}
		if changed {
			out = append(out, e)
		}
	}
	return out, nil
}

// step looks at one commit: whether it has the path otherwise than all of its
// parents, and what the path is called in them.
func (t *tracer) step(c ledger.Commit) (Entry, bool, error) {
	name, ok := t.names[c.ID]
	if !ok {
		return Entry{}, false, nil
	}
	now, err := t.chest.At(c.Tree, name)
	if err != nil {
		return Entry{}, false, err
	}
	e, changed := Entry{Commit: c, Path: name}, true
	if len(c.Parents) == 0 {
		return e, now.Mode != 0, nil
	}
	for _, id := range c.Parents {
		parent := t.commits[id]
		before, err := t.chest.At(parent.Tree, name)
		if err != nil {
			return e, false, err
		}
		was := name
		if before.Mode == 0 && now.Mode != 0 && now.Mode != chest.Folder {
			if was, err = t.formerly(parent, c, now); err != nil {
				return e, false, err
			}
			if was == "" {
				was = name
			} else {
				e.From = was
			}
		}
		if _, known := t.names[id]; !known {
			t.names[id] = was
		}
		if before.Same(now) {
			changed = false
		}
	}
	return e, changed && (now.Mode != 0 || e.From == ""), nil
}

// formerly gives the path of a file of equal content that the parent has and
// the commit does not.
func (t *tracer) formerly(parent, c ledger.Commit, f chest.File) (string, error) {
	before, err := t.chest.Files(parent.Tree)
	if err != nil {
		return "", err
	}
	for _, old := range before {
		if old.Digest != f.Digest {
			continue
		}
		still, err := t.chest.At(c.Tree, old.Path)
		if err != nil {
			return "", err
		}
		if still.Mode == 0 {
			return old.Path, nil
		}
	}
	return "", nil
}

// state is the state of an entry's commit.
func (e Entry) state(c *chest.Chest) state.State {
	return state.Commit{Chest: c, Tree: e.Commit.Tree, Name: e.Commit.Branch}
}
