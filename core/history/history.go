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
func List(ctx context.Context, c *chest.Chest, tip ledger.Commit, q Query) (out []Entry, more bool, err error) {
	if tip.ID == (ledger.ID{}) {
		return nil, false, nil
	}
	if q.Path == "" {
		out, err = commits(ctx, c, tip, q)
	} else {
		out, err = versions(ctx, c, tip, q.Path)
		out = slices.DeleteFunc(out, func(e Entry) bool { return !q.fits(e.Commit) })
	}
	if err != nil {
		return nil, false, chest.Explain(err)
	}
	if q.Limit > 0 && len(out) > q.Limit {
		return out[:q.Limit], true, nil
	}
	return out, false, nil
}

// commits gives the commits that fit, at most one more than the limit.
func commits(ctx context.Context, c *chest.Chest, tip ledger.Commit, q Query) (out []Entry, err error) {
	err = c.View(ctx, func(tx ledger.Records) error {
		within, err := tx.Extent(tip)
		if err != nil {
			return err
		}
		return ledger.Within(tx, within, func(commit ledger.Commit) (bool, error) {
			if q.fits(commit) {
				out = append(out, Entry{Commit: commit})
			}
			return q.Limit == 0 || len(out) <= q.Limit, ctx.Err()
		})
	})
	return out, err
}

// state is the state of an entry's commit.
func (e Entry) state(c *chest.Chest) state.State {
	return state.Commit{Chest: c, Tree: e.Commit.Tree, Name: e.Commit.Branch}
}
