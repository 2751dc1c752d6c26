package workspace

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// Relocated is what Relocate has done.
type Relocated struct {
	// From and To are the places of the chest, before and now.
	From, To string
	// Moved says that the chest itself was brought there, Bytes large; else only this workspace looks for
	// it there.
	Moved bool
	Bytes int64
}

// Relocate brings the chest to a folder that is missing or empty; where a folder holds it already, under
// another path, this workspace looks for it there.
func (w *Workspace) Relocate(ctx context.Context, location string) (*Relocated, error) {
	to, err := filepath.Abs(location)
	if err != nil {
		return nil, err
	}
	if within(w.Root, to) {
		return nil, fault.New(fault.Usage, "Name a place outside of the folder.", "The chest's place %s lies inside the folder that it holds.", location)
	}
	r := &Relocated{From: w.Chest.Dir, To: to}
	if chest.Exists(to) {
		return r, w.lookFor(ctx, to)
	}
	if w.Offline {
		return nil, fault.New(fault.Unreachable, "Name the folder in which it is now.", "The chest is out of reach in %s, and %s holds none.", w.Chest.Dir, location)
	}
	if within(w.Chest.Dir, to) {
		return nil, fault.New(fault.Usage, "Name a place outside of it.", "%s lies inside of the chest.", location)
	}
	r.Moved = true
	if r.Bytes, err = w.Chest.MoveTo(ctx, to, w.host.Progress); err != nil {
		return nil, err
	}
	c, err := chest.Open(ctx, to)
	if err != nil {
		return nil, err
	}
	return r, w.standBy(ctx, c)
}

// within reports whether a folder lies in another one, or is it.
func within(outer, inner string) bool {
	rel, err := filepath.Rel(outer, inner)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// lookFor makes the workspace look for its chest in another folder, when it is there: where the chest can
// be reached, the two are one; else the other holds the commit that this workspace stands on.
func (w *Workspace) lookFor(ctx context.Context, to string) error {
	c, err := chest.Open(ctx, to)
	if err != nil {
		return err
	}
	if err := w.proveSame(ctx, c); err != nil {
		return errors.Join(err, c.Close())
	}
	return w.standBy(ctx, c)
}

func (w *Workspace) proveSame(ctx context.Context, c *chest.Chest) error {
	if !w.Offline {
		same, err := w.Chest.SameAs(c)
		if err == nil && !same {
			err = fault.New(fault.Refused, "To bring the chest somewhere else, name an empty folder.", "%s holds another chest than the one in %s, which this workspace uses.", c.Dir, w.Chest.Dir)
		}
		return err
	}
	if w.Base.ID == (ledger.ID{}) {
		return fault.New(fault.Refused, "Get a new workspace with oaken open.", "Nothing is committed that would tell whether %s holds this project.", c.Dir)
	}
	if _, err := c.Commit(ctx, w.Base.ID); err != nil {
		return fault.New(fault.Refused, "Name the folder of this project's chest.", "%s does not hold %s, on which this workspace stands: it is another project, or an older copy.", c.Dir, Label(w.Base))
	}
	return nil
}

// standBy makes a chest this workspace's.
func (w *Workspace) standBy(ctx context.Context, c *chest.Chest) error {
	old := w.Chest
	w.rec.Chest, w.Chest, w.Offline, w.registered = c.Dir, c, false, false
	w.Chest.Warden = warden{w}
	if w.pocket != nil {
		c.Blobs.Beside(w.pocket)
	}
	if old.Ledger != nil {
		if err := old.Close(); err != nil {
			return err
		}
	}
	if err := w.save(); err != nil {
		return err
	}
	w.keepFolders(ctx)
	return w.register(ctx)
}

// openChest opens the chest at a location, or the one that it was moved to from there, of which the
// workspace takes note when it is claimed.
func openChest(ctx context.Context, location string) (c *chest.Chest, at string, err error) {
	const farthest = 8 // moves
	for range farthest {
		c, err = chest.Open(ctx, location)
		to := chest.MovedTo(err)
		if to == "" {
			return c, location, err
		}
		if _, gone := os.Stat(to); gone != nil {
			return nil, to, err
		}
		if err := chest.Arrive(location, to); err != nil {
			return nil, to, err
		}
		location = to
	}
	return nil, location, err
}
