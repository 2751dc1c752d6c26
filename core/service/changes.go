package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/overlap"
	"oakenchest/core/service/result"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
	"oakenchest/core/workspace/disk"
)

// Changes is what has changed in a workspace, what is under way there, and who else is at the same things.
type Changes struct {
	Workspace *workspace.Workspace
	Status    *workspace.Status
	// UnderWay is the merge that is under way, nil for none; Open are its conflicts that nobody has settled.
	UnderWay *workspace.Pending
	Open     []element.Conflict
	// Judge and Crowd tell what locks are worth; Crowd is nil where nothing is locked.
	Judge    chest.Judge
	Crowd    *chest.Crowd
	Warnings []overlap.Overlap
}

// mostWarned bounds how many changed artifacts are looked for elsewhere.
const mostWarned = 100

// Changes tells what has changed, at some paths of the project or everywhere. The chest hears what is edited here.
func (d Desk) Changes(ctx context.Context, paths []string, now time.Time) (*Changes, error) {
	w := d.Workspace
	if err := w.CheckPaths(ctx, paths); err != nil {
		return nil, err
	}
	c := &Changes{Workspace: w}
	var err error
	if c.Status, err = w.Changes(ctx); err != nil {
		return nil, err
	}
	if c.UnderWay, c.Open, err = w.Conflicts(ctx); err != nil {
		return nil, err
	}
	if !w.Offline {
		err = c.others(ctx, now)
	}
	c.narrow(paths)
	return c, err
}

// others finds who else is at what is edited here.
func (c *Changes) others(ctx context.Context, now time.Time) (err error) {
	w, s := c.Workspace, c.Status
	_ = w.AnnounceStatus(ctx, s) // the next command tells it
	if c.Judge, err = w.Chest.Judge(ctx, now, w.Manifest.Team.Silence()); err != nil {
		return err
	}
	if len(s.Held)+len(s.Mine) > 0 {
		if c.Crowd, err = w.Chest.Crowd(ctx, nil); err != nil {
			return err
		}
	}
	c.Warnings, err = w.Warnings(ctx, pathsOf(Told(s)), s.Changes)
	return err
}

// pathsOf lists the paths of the first of some changes.
func pathsOf(list []workspace.Change) []string {
	return disk.PathsOf(list[:min(len(list), mostWarned)])
}

// Told lists the changes that people are told of: all but noise.
func Told(s *workspace.Status) []workspace.Change {
	return slices.DeleteFunc(slices.Clone(s.Changes), func(c workspace.Change) bool { return c.Noise })
}

// Told lists the changes that people are told of.
func (c *Changes) Told() []workspace.Change { return Told(c.Status) }

// narrow leaves that which lies at some paths; none leave everything.
func (c *Changes) narrow(paths []string) {
	if len(paths) == 0 {
		return
	}
	away := func(address string) bool {
		p, _, _ := strings.Cut(address, "::")
		return !state.Under(paths, p)
	}
	s := c.Status
	s.Changes = slices.DeleteFunc(s.Changes, func(c workspace.Change) bool { return away(c.Path) && (c.From == "" || away(c.From)) })
	s.Unreadable = slices.DeleteFunc(s.Unreadable, func(u workspace.Unreadable) bool { return away(u.Path) })
	s.Held = slices.DeleteFunc(s.Held, func(l ledger.Lock) bool { return away(l.Address) })
	s.Mine = slices.DeleteFunc(s.Mine, func(l ledger.Lock) bool { return away(l.Address) })
	c.Warnings = slices.DeleteFunc(c.Warnings, func(o overlap.Overlap) bool { return away(o.Path) })
}

// Result gives it as data.
func (c *Changes) Result() result.Changes {
	w, s := c.Workspace, c.Status
	underWay := ""
	if c.UnderWay != nil {
		underWay = c.UnderWay.What
	}
	return result.Changes{
		Workspace: w.Name, Person: w.Person, Branch: w.Branch, Base: workspace.Label(w.Base), Changes: result.FileChangesOf(c.Told()),
		Waiting: result.WaitingOf(s.Waiting), Offline: w.Offline, Overlaps: result.OverlapsOf(c.Warnings),
		Held: result.LocksOf(s.Held, &c.Judge, c.Crowd), Mine: result.LocksOf(s.Mine, &c.Judge, c.Crowd), Newer: s.Newer,
		Unreadable: result.UnreadableOf(s.Unreadable), UnderWay: underWay, Only: result.List(w.Only()),
	}
}

// Nearby tells who else is at what is edited or locked in the workspace.
func (d Desk) Nearby(ctx context.Context) ([]overlap.Overlap, error) {
	w := d.Workspace
	s, err := w.Changes(ctx)
	if err != nil {
		return nil, err
	}
	_ = w.AnnounceStatus(ctx, s) // the next command tells it
	paths := pathsOf(Told(s))
	for _, l := range s.Mine {
		if !l.Pattern && !l.Folder {
			paths = append(paths, l.Address)
		}
	}
	return w.Warnings(ctx, paths, s.Changes)
}
