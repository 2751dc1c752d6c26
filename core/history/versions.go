package history

import (
	"context"
	"slices"

	"oakenchest/core/chest"
	"oakenchest/core/ledger"
)

// versions gives the commits up to a tip that changed a path, or what it was
// called before, the newest first.
func versions(ctx context.Context, c *chest.Chest, tip ledger.Commit, path string) ([]Entry, error) {
	t := &tracer{chest: c, found: map[ledger.ID]Entry{}, parents: map[ledger.ID]ledger.Commit{}}
	err := c.View(ctx, func(tx ledger.Records) error {
		var err error
		if t.within, err = tx.Extent(tip); err != nil {
			return err
		}
		if t.broad, err = tx.Broad(); err != nil {
			return err
		}
		t.tx = tx
		return t.follow(ctx, path, nil)
	})
	if err != nil {
		return nil, err
	}
	out := make([]Entry, 0, len(t.found))
	for _, e := range t.found {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return -ledger.Older(a.Commit, b.Commit) })
	for i := range out {
		out[i].Version, out[i].Versions = len(out)-i, len(out)
	}
	return out, nil
}

// tracer follows one path through its renames.
type tracer struct {
	chest   *chest.Chest
	tx      ledger.Records
	within  ledger.Extent
	broad   []ledger.Commit
	parents map[ledger.ID]ledger.Commit
	found   map[ledger.ID]Entry
}

// follow takes in the commits that changed a path and, where one moved it there,
// those that changed its former path. moved is the commit that moved the path
// away, nil for none: what has its name since is another thing.
func (t *tracer) follow(ctx context.Context, path string, moved *ledger.Commit) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	touches, err := t.touches(path)
	if err != nil {
		return err
	}
	slices.SortFunc(touches, func(a, b ledger.Touch) int { return -ledger.Older(a.Commit, b.Commit) })
	for i := 0; i < len(touches); i++ {
		touch := touches[i]
		if moved != nil {
			later, err := t.standsOn(touch.Commit, *moved)
			if err != nil {
				return err
			}
			if later {
				continue // another thing of that name, made since
			}
		}
		if _, known := t.found[touch.Commit.ID]; known {
			continue
		}
		e := Entry{Commit: touch.Commit, Path: path}
		if touch.Path != path || touch.From == "" { // below a folder, or not moved
			t.found[touch.Commit.ID] = e
			continue
		}
		e.From = touch.From
		t.found[touch.Commit.ID] = e
		if err := t.follow(ctx, touch.From, &touch.Commit); err != nil {
			return err
		}
		// What had this path before the move was another thing.
		before, err := t.tx.Extent(touch.Commit)
		if err != nil {
			return err
		}
		touches = append(touches[:i+1], slices.DeleteFunc(touches[i+1:], func(o ledger.Touch) bool { return before.Holds(o.Commit) })...)
	}
	return nil
}

// standsOn reports whether a commit has another among those that it stands on.
func (t *tracer) standsOn(c, on ledger.Commit) (bool, error) {
	if c.ID == on.ID || c.Generation <= on.Generation {
		return c.ID == on.ID, nil
	}
	x, err := t.tx.Extent(c)
	return x.Holds(on), err
}

// touches gives what the commits within the extent did to a path.
func (t *tracer) touches(path string) ([]ledger.Touch, error) {
	all, err := t.tx.Touches(path)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(o ledger.Touch) bool { return !t.within.Holds(o.Commit) })
	for _, c := range t.broad {
		if !t.within.Holds(c) {
			continue
		}
		touch, ok, err := t.look(c, path)
		if err != nil {
			return nil, err
		}
		if ok {
			all = append(all, touch)
		}
	}
	return all, nil
}

// look tells from the trees what a broad commit did to a path.
func (t *tracer) look(c ledger.Commit, path string) (ledger.Touch, bool, error) {
	touch := ledger.Touch{Commit: c, Path: path}
	now, err := t.chest.At(c.Tree, path)
	if err != nil {
		return touch, false, err
	}
	touch.Gone = now.Mode == 0
	for i, id := range c.Parents {
		parent, ok := t.parents[id]
		if !ok {
			if parent, err = t.tx.Commit(id); err != nil {
				return touch, false, err
			}
			t.parents[id] = parent
		}
		before, err := t.chest.At(parent.Tree, path)
		if err != nil || before.Same(now) {
			return touch, false, err
		}
		if i > 0 || before.Mode != 0 || now.Mode == chest.Folder {
			continue
		}
		pairs, err := t.chest.Diff(parent.Tree, c.Tree)
		if err != nil {
			return touch, false, err
		}
		touch.From = chest.Moved(pairs)[path]
	}
	return touch, len(c.Parents) > 0 || now.Mode != 0, nil
}
