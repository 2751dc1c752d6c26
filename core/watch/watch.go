// Package watch follows a workspace while somebody works in it: it tells the chest what is
// edited, takes locks as soon as an edit is seen, says what others do to the same things
// and what arrived, and commits at intervals.
//
// The workspace is opened for a moment at a time, so that other commands run between.
package watch

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/overlap"
	"oakenchest/core/workspace"
)

// Sort says what an event is about.
type Sort string

// The sorts of events.
const (
	Edited    Sort = "edited"    // something is edited, or not any more
	Locked    Sort = "locked"    // a lock was taken by itself
	Contested Sort = "contested" // somebody else holds the lock of what is edited
	Overlaps  Sort = "overlap"   // somebody else is at the same thing
	Arrived   Sort = "arrived"   // newer commits in the chest
	Committed Sort = "committed"
	Notice    Sort = "notice"  // what somebody left for this workspace
	Trouble   Sort = "trouble" // something failed and is tried again
)

// Event is something that a person may want to know.
type Event struct {
	Time time.Time
	Sort Sort
	Path string
	Text string
	// Overlap says more of an overlap.
	Overlap *overlap.Overlap
}

// Session is one run of watching.
type Session struct {
	Root string
	// Open opens the workspace.
	Open func(context.Context) (*workspace.Workspace, error)
	Now  func() time.Time
	Emit func(Event)
	// NewsEvery is how often the chest is asked for news, PollEvery how often the files are
	// looked at where the system can't tell of changes.
	NewsEvery, PollEvery time.Duration
	// TakeLocks takes the locks that the project requires or advises.
	TakeLocks bool
	// CommitEvery commits what changed at intervals, with Message; 0 for never.
	CommitEvery time.Duration
	Message     string

	edited map[string]workspace.FileState
	warned map[string]string
	newer  int
	failed string
}

// Run watches until ctx ends.
func (s *Session) Run(ctx context.Context) error {
	s.edited, s.warned = map[string]workspace.FileState{}, map[string]string{}
	var leftOut func(string) bool
	var signals <-chan struct{}
	err := s.with(ctx, func(w *workspace.Workspace) error {
		signals = w.Chest.Signals(ctx)
		m := w.Manifest
		leftOut = func(rel string) bool {
			return rel == workspace.Folder || strings.HasPrefix(rel, workspace.Folder+"/") || m.LeftOut(rel)
		}
		return nil
	})
	if err != nil {
		return err
	}
	f, err := follow(ctx, s.Root, leftOut, s.PollEvery)
	if err != nil {
		return err
	}
	if f.polling {
		s.tell(Trouble, "", "This system has no room to watch so many folders; the files are looked at every %s.", s.PollEvery)
	}
	news := s.newsTimes(ctx, signals)
	commit := make(<-chan time.Time)
	if s.CommitEvery > 0 {
		t := time.NewTicker(s.CommitEvery)
		defer t.Stop()
		commit = t.C
	}
	s.try(ctx, s.look)
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-f.changed:
			signs := f.took()
			s.try(ctx, func(ctx context.Context, w *workspace.Workspace) error {
				return errors.Join(s.opened(ctx, w, signs), s.look(ctx, w))
			})
		case <-news:
			s.try(ctx, s.news)
		case <-commit:
			s.try(ctx, s.commit)
		}
	}
}

// newsTimes gives when the chest is to be asked for news: when it gives a sign, at most every second, or else at intervals.
func (s *Session) newsTimes(ctx context.Context, signals <-chan struct{}) <-chan time.Time {
	out := make(chan time.Time)
	go func() {
		tick := time.NewTicker(s.NewsEvery)
		defer tick.Stop()
		for {
			if signals == nil {
				select {
				case <-ctx.Done():
					return
				case <-tick.C:
				}
			} else {
				select {
				case <-ctx.Done():
					return
				case <-signals:
				}
			}
			select {
			case <-ctx.Done():
				return
			case out <- s.Now():
			}
			if signals != nil {
				select {
				case <-ctx.Done():
				case <-time.After(min(time.Second, s.NewsEvery)):
				}
			}
		}
	}()
	return out
}

// try does something with the workspace; what fails is told once, and tried again later.
func (s *Session) try(ctx context.Context, fn func(context.Context, *workspace.Workspace) error) {
	err := s.with(ctx, func(w *workspace.Workspace) error { return fn(ctx, w) })
	text := ""
	if err != nil && ctx.Err() == nil {
		text = err.Error()
	}
	if text != "" && text != s.failed {
		s.tell(Trouble, "", "%s", text)
	}
	s.failed = text
	debug.FreeOSMemory() // the lists of files are not needed until something changes
}

func (s *Session) with(ctx context.Context, fn func(*workspace.Workspace) error) error {
	w, err := s.Open(ctx)
	if err != nil {
		return err
	}
	if err := w.Claim(ctx); err != nil {
		return errors.Join(err, w.Close())
	}
	return errors.Join(fn(w), w.Close())
}

func (s *Session) tell(sort Sort, path, format string, args ...any) {
	s.Emit(Event{Time: s.Now(), Sort: sort, Path: path, Text: fmt.Sprintf(format, args...)})
}

// look finds out what is edited, and acts on it.
func (s *Session) look(ctx context.Context, w *workspace.Workspace) error {
	st, err := w.Changes(ctx)
	if err != nil {
		return err
	}
	if err := w.AnnounceStatus(ctx, st); err != nil {
		return err
	}
	now := map[string]workspace.FileState{}
	var fresh []workspace.Change
	for _, c := range st.Changes {
		if c.Noise {
			continue
		}
		now[c.Path] = c.State
		if s.edited[c.Path] != c.State {
			fresh = append(fresh, c)
		}
	}
	for p := range s.edited {
		if _, still := now[p]; !still {
			s.tell(Edited, p, "%s is as it was committed.", p)
			delete(s.warned, p)
		}
	}
	s.edited = now
	for _, c := range fresh {
		if err := s.seen(ctx, w, c); err != nil {
			return err
		}
	}
	return s.around(ctx, w, st)
}

// seen tells of an edit, and takes its lock.
func (s *Session) seen(ctx context.Context, w *workspace.Workspace, c workspace.Change) error {
	if c.State == workspace.Contested {
		by := "without its lock"
		if c.Holder != "" {
			by = "and " + c.Holder + " holds its lock"
		}
		s.tell(Contested, c.Path, "%s is edited here, %s: it can't be committed until you have it.", c.Path, by)
		return nil
	}
	s.tell(Edited, c.Path, "%s: %s.", c.Path, c.State)
	if !s.TakeLocks || c.State != workspace.Edited || !w.WantsLock(ctx, c.Path) {
		return nil
	}
	l, err := w.Lock(ctx, []string{c.Path}, workspace.LockOptions{Reason: "being edited"})
	if fault.CodeOf(err) == fault.Refused || fault.CodeOf(err) == fault.Conflict {
		s.tell(Contested, c.Path, "The lock of %s can't be had: %s", c.Path, err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	if l.Brought != nil {
		s.tell(Arrived, c.Path, "%s was newer in the chest; your edit is combined with it.", c.Path)
	}
	s.tell(Locked, c.Path, "%s is locked for you.", c.Path)
	return nil
}

// around tells who else is at what is edited here.
func (s *Session) around(ctx context.Context, w *workspace.Workspace, st *workspace.Status) error {
	var paths []string
	for p := range s.edited {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	const most = 100
	list, err := w.Warnings(ctx, paths[:min(len(paths), most)], st.Changes)
	if err != nil {
		return err
	}
	for _, o := range list {
		said := fingerprint(o)
		if s.warned[o.Path] == said {
			continue
		}
		s.warned[o.Path] = said
		e := Event{Time: s.Now(), Sort: Overlaps, Path: o.Path, Text: sentence(o), Overlap: &o}
		s.Emit(e)
	}
	return nil
}

func fingerprint(o overlap.Overlap) string {
	out := string(o.Verdict)
	for _, side := range o.Sides {
		out += fmt.Sprintf("|%s %s %s %v", side.Branch, side.Workspace, side.State, side.Told)
	}
	return out
}

// sentence says what an overlap is.
func sentence(o overlap.Overlap) string {
	side := o.Sides[0]
	where := "on " + side.Branch
	if side.Workspace != "" {
		where = "in " + side.Workspace
	}
	verdict := map[overlap.Verdict]string{overlap.Exclusive: "it can't be merged, one side will be lost", overlap.Clashing: "the two clash",
		overlap.Apart: "the two meet nowhere", overlap.Combining: "a merge combines the two"}[o.Verdict]
	if verdict == "" {
		verdict = "look at oaken overlaps"
	}
	return fmt.Sprintf("%s is changed by %s too, %s: %s.", o.Path, side.Person, where, verdict)
}

// news tells what came into the chest.
func (s *Session) news(ctx context.Context, w *workspace.Workspace) error {
	list, read, err := w.Notices(ctx)
	if err != nil {
		return err
	}
	for _, n := range list {
		s.tell(Notice, "", "%s", n.Text)
	}
	if err := read(); err != nil {
		return err
	}
	newer, last, err := w.NewerCommits(ctx)
	if err != nil {
		return err
	}
	if newer > s.newer {
		s.tell(Arrived, "", "%s by %s: %s", element.Counted(newer, "newer commit"), last.Author, firstLine(last.Message))
	}
	s.newer = newer
	if len(s.edited) == 0 {
		return nil
	}
	return s.look(ctx, w)
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// commit records what changed, as an unattended commit.
func (s *Session) commit(ctx context.Context, w *workspace.Workspace) error {
	c, err := w.Commit(ctx, workspace.CommitOptions{Message: s.Message, KeepLocks: true})
	if err != nil {
		return err
	}
	if len(c.Changes) == 0 {
		return nil
	}
	if c.Held > 0 {
		s.tell(Committed, "", "%s unsent: %s", element.Counted(len(c.Changes), "file"), firstLine(s.Message))
	} else {
		s.tell(Committed, "", "%s as %s: %s", element.Counted(len(c.Changes), "file"), workspace.Label(c.Commit), firstLine(s.Message))
	}
	return s.look(ctx, w)
}
