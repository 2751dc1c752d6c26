package chest

import (
	"context"
	"errors"
	"slices"
	"time"

	"oakenchest/core/ledger"
)

// Presence is what a workspace tells of itself.
type Presence struct {
	ledger.Workspace
	// Edits is everything that is edited in it; of what was told before with the same
	// content, the time stays.
	Edits []ledger.Edit
}

// signEvery is how often a sign of life is written when there is nothing else to tell.
const signEvery = 10 * time.Minute

// Announce records what a workspace tells of itself, where that is news.
func (c *Chest) Announce(ctx context.Context, p Presence) error {
	var known ledger.Workspace
	var before []ledger.Edit
	err := c.View(ctx, func(r ledger.Records) (err error) {
		if known, err = r.Workspace(p.Name); errors.Is(err, ledger.ErrNotFound) {
			err = nil
		}
		if err == nil {
			before, err = r.EditsOf(p.Name)
		}
		return err
	})
	if err != nil {
		return Explain(err)
	}
	put, gone := newEdits(before, p.Edits)
	if len(put)+len(gone) == 0 && p.Seen.Sub(known.Seen) < signEvery && !moved(known, p.Workspace) {
		return nil
	}
	return Explain(c.store.Tell(ctx, News{Workspace: p.Workspace, Put: put, Gone: gone}))
}

func moved(was, is ledger.Workspace) bool {
	was.Seen = is.Seen
	return was != is
}

// newEdits parts what is edited into what is news, and what was told and is over.
func newEdits(before, now []ledger.Edit) (put, gone []ledger.Edit) {
	was := map[string]ledger.Edit{}
	for _, e := range before {
		was[e.Path] = e
	}
	for _, e := range now {
		if old, ok := was[e.Path]; ok {
			delete(was, e.Path)
			e.Since = old.Since
			if e == old {
				continue
			}
		}
		put = append(put, e)
	}
	for _, e := range before {
		if _, over := was[e.Path]; over {
			gone = append(gone, e)
		}
	}
	return put, gone
}

// Register records a new workspace, under a name that no other one has: the one that is
// wished for, or that with a number. It gives the name.
func (c *Chest) Register(ctx context.Context, w ledger.Workspace) (string, error) {
	name, err := c.store.Register(ctx, w)
	return name, Explain(err)
}

// Crowd is everybody's workspaces and what is edited in them.
type Crowd struct {
	Workspaces map[string]ledger.Workspace
	// Edits are by path, then by workspace.
	Edits []ledger.Edit
}

// Crowd gives everybody's workspaces; paths narrows the edits, none means all.
func (c *Chest) Crowd(ctx context.Context, paths []string) (*Crowd, error) {
	out := &Crowd{Workspaces: map[string]ledger.Workspace{}}
	err := c.View(ctx, func(r ledger.Records) error {
		all, err := r.Workspaces()
		for _, w := range all {
			out.Workspaces[w.Name] = w
		}
		if err == nil && len(paths) == 0 {
			out.Edits, err = r.Edits()
			return err
		}
		for _, p := range paths {
			if err != nil {
				return err
			}
			var at []ledger.Edit
			at, err = r.EditsAt(p)
			out.Edits = append(out.Edits, at...)
		}
		return err
	})
	return out, Explain(err)
}

// EditsOf gives what a workspace has told that is edited in it.
func (c *Chest) EditsOf(ctx context.Context, workspace string) (out []ledger.Edit, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.EditsOf(workspace); return err })
	return out, Explain(err)
}

// Unpublished reports whether something is edited under a lock and not published.
func (c *Crowd) Unpublished(l ledger.Lock) bool {
	return slices.ContainsFunc(c.Edits, func(e ledger.Edit) bool {
		return e.Workspace == l.Workspace && (Reaches(l, e.Path) || Covers(e.Path, l.Address))
	})
}

// Notices gives the sentences that others left for a workspace, and takes them away once
// read says that they were.
func (c *Chest) Notices(ctx context.Context, workspace string) (out []ledger.Notice, read func() error, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Notices(workspace); return err })
	return out, func() error {
		if len(out) == 0 {
			return nil
		}
		return Explain(c.store.Heard(ctx, workspace, out[len(out)-1].ID))
	}, Explain(err)
}

// Workspace gives what a workspace last told of itself; the zero one when it is not known.
func (c *Chest) Workspace(ctx context.Context, name string) (w ledger.Workspace, err error) {
	err = c.View(ctx, func(r ledger.Records) error { w, err = r.Workspace(name); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return ledger.Workspace{}, nil
	}
	return w, Explain(err)
}

// Workspaces gives all workspaces of the chest.
func (c *Chest) Workspaces(ctx context.Context) (out []ledger.Workspace, err error) {
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Workspaces(); return err })
	return out, Explain(err)
}

// Others counts the workspaces that are not called so.
func (c *Chest) Others(ctx context.Context, name string) (n int, err error) {
	err = c.View(ctx, func(r ledger.Records) error {
		all, err := r.Workspaces()
		for _, w := range all {
			if w.Name != name {
				n++
			}
		}
		return err
	})
	return n, Explain(err)
}

// Notify leaves a sentence for a workspace.
func (c *Chest) Notify(ctx context.Context, n ledger.Notice) error {
	return c.just(ctx, Notify{n})
}
