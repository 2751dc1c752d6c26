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
	known, err := c.Workspace(ctx, p.Name)
	if err != nil {
		return err
	}
	before, err := c.EditsOf(ctx, p.Name)
	if err != nil {
		return err
	}
	put, gone := newEdits(before, p.Edits)
	if len(put)+len(gone) == 0 && p.Seen.Sub(known.Seen) < signEvery && !moved(known, p.Workspace) {
		return nil
	}
	if err := c.store.Tell(ctx, News{Workspace: p.Workspace, Put: put, Gone: gone}); err != nil {
		c.sight.dropCrowd()
		return Explain(err)
	}
	c.sight.told(p.Workspace, p.Edits)
	return nil
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
	defer c.sight.dropCrowd()
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
	if workspace == c.Actor.Workspace {
		if _, err := c.company(ctx, false); err != nil {
			return nil, Explain(err)
		}
	}
	if list, ok := ofWorkspace(&c.sight, &c.sight.edits, workspace); ok {
		return list, nil
	}
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
	var known bool
	if out, known = ofWorkspace(&c.sight, &c.sight.notices, workspace); !known {
		err = c.View(ctx, func(r ledger.Records) error { out, err = r.Notices(workspace); return err })
	}
	return out, func() error {
		if len(out) == 0 {
			return nil
		}
		defer c.sight.drop()
		return Explain(c.store.Heard(ctx, workspace, out[len(out)-1].ID))
	}, Explain(err)
}

// Workspace gives what a workspace last told of itself; the zero one when it is not known.
func (c *Chest) Workspace(ctx context.Context, name string) (w ledger.Workspace, err error) {
	if known, err := c.company(ctx, false); err != nil {
		return w, Explain(err)
	} else if known {
		all, _, _ := c.sight.lists()
		for _, w := range all {
			if w.Name == name {
				return w, nil
			}
		}
		return w, nil
	}
	err = c.View(ctx, func(r ledger.Records) error { w, err = r.Workspace(name); return err })
	if errors.Is(err, ledger.ErrNotFound) {
		return ledger.Workspace{}, nil
	}
	return w, Explain(err)
}

// Workspaces gives all workspaces of the chest.
func (c *Chest) Workspaces(ctx context.Context) (out []ledger.Workspace, err error) {
	if known, err := c.company(ctx, false); err != nil || known {
		out, _, _ = c.sight.lists()
		return out, Explain(err)
	}
	err = c.View(ctx, func(r ledger.Records) error { out, err = r.Workspaces(); return err })
	return out, Explain(err)
}

// Others counts the workspaces that are not called so.
func (c *Chest) Others(ctx context.Context, name string) (n int, err error) {
	all, err := c.Workspaces(ctx)
	for _, w := range all {
		if w.Name != name {
			n++
		}
	}
	return n, err
}

// Notify leaves a sentence for a workspace.
func (c *Chest) Notify(ctx context.Context, n ledger.Notice) error {
	return c.just(ctx, Notify{n})
}
