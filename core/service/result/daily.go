package result

import (
	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/overlap"
	"oakenchest/core/state"
	"oakenchest/core/watch"
	"oakenchest/core/workspace"
)

// Changes is what changed in a workspace.
type Changes struct {
	Workspace string       `json:"workspace"`
	Person    string       `json:"person"`
	Branch    string       `json:"branch"`
	Base      string       `json:"base"`
	Changes   []FileChange `json:"changes"`
	// Waiting lists the commits that are not published yet, the oldest first.
	Waiting []Waiting `json:"waiting"`
	// Offline says that the chest is out of reach.
	Offline  bool      `json:"offline"`
	Overlaps []Overlap `json:"overlaps"`
	// Held lists the locks of others, Mine this workspace's.
	Held []Lock `json:"held"`
	Mine []Lock `json:"mine"`
	// Newer counts the commits of the branch that are not here.
	Newer int `json:"newer"`
	// Unreadable lists what could be read before it was edited, and can't any more.
	Unreadable []Unreadable `json:"unreadable"`
	// UnderWay says which merge is; empty for none.
	UnderWay string `json:"underWay"`
	// Only lists the patterns of a workspace of a part of the project.
	Only []string `json:"only"`
}

// Schema names it.
func (Changes) Schema() string { return "oaken.changes/1" }

// FileChange is what became of one file.
type FileChange struct {
	Path string `json:"path"`
	// State is new, edited, gone, moved or contested.
	State string `json:"state"`
	Kind  string `json:"kind"`
	// From is the former path of what moved.
	From string `json:"from,omitempty"`
	Note string `json:"note,omitempty"`
	// Holder has the lock of what is contested.
	Holder string `json:"holder,omitempty"`
}

// FileChangesOf gives changes.
func FileChangesOf(list []workspace.Change) []FileChange {
	return each(list, func(c workspace.Change) FileChange {
		return FileChange{c.Path, string(c.State), c.Kind, c.From, UnreadNote(c.Kind, c.Why), c.Holder}
	})
}

// UnreadNote says why an artifact is not read as what it seems to be; empty for no reason.
func UnreadNote(kind, why string) string {
	switch {
	case why == "":
		return ""
	case kind == "text":
		return "read as plain text: " + why
	}
	return "kept as opaque: " + why
}

// Waiting is a commit that is not published yet.
type Waiting struct {
	Time    string `json:"time"`
	Message string `json:"message"`
	Files   int    `json:"files"`
}

// WaitingOf gives such commits.
func WaitingOf(list []workspace.Held) []Waiting {
	return each(list, func(h workspace.Held) Waiting { return Waiting{Time(h.Time), h.Message, h.Files} })
}

// Unreadable is an artifact that can't be read any more as what it was.
type Unreadable struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
	Why  string `json:"why"`
}

// UnreadableOf gives such artifacts.
func UnreadableOf(list []workspace.Unreadable) []Unreadable {
	return each(list, func(u workspace.Unreadable) Unreadable { return Unreadable{u.Path, u.Kind, u.Why} })
}

// Compared is how two states differ.
type Compared struct {
	From    string   `json:"from"`
	To      string   `json:"to"`
	Changes []Change `json:"changes"`
}

// Schema names it.
func (Compared) Schema() string { return "oaken.compare/1" }

// Change is a difference inside an artifact.
type Change struct {
	Address string `json:"address"`
	// Change is added, removed, edited, moved or renamed.
	Change string `json:"change"`
	// From and To are the two sides; null for one that is not there.
	From *string `json:"from"`
	To   *string `json:"to"`
	Kind string  `json:"kind"`
	Note string  `json:"note,omitempty"`
}

// OnlyBytes is the note of a difference that nobody can see.
const OnlyBytes = "only bytes without meaning differ"

// ChangesOf gives differences.
func ChangesOf(diffs []state.Difference) []Change {
	out := []Change{}
	for _, d := range diffs {
		if d.Quiet {
			out = append(out, Change{element.Address{Path: d.Path}.String(), string(element.Edited), nil, nil, d.Kind, OnlyBytes})
		}
		for _, c := range d.Changes {
			r := Change{Address: c.Address.String(), Change: string(c.Kind), From: Text(c.From), To: Text(c.To), Kind: d.Kind,
				Note: UnreadNote(d.Kind, d.Why)}
			if note := d.Note(c); note != "" {
				r.Note = note
			}
			if c.Element != nil {
				switch text := c.Element.Summary(); c.Kind {
				case element.Added:
					r.To = &text
				case element.Removed:
					r.From = &text
				}
			}
			out = append(out, r)
		}
	}
	return out
}

// ComparePage is a comparison that was drawn.
type ComparePage struct {
	File      string `json:"file"`
	Artifacts int    `json:"artifacts"`
	Bytes     int    `json:"bytes"`
}

// Schema names it.
func (ComparePage) Schema() string { return "oaken.compare-page/1" }

// Committed is what a commit has come to.
type Committed struct {
	// Commit is null when nothing changed, or when it is not published yet.
	Commit *Commit `json:"commit"`
	Files  int     `json:"files"`
	// Released lists the locks that ended.
	Released []string `json:"released"`
	// Held counts the commits here that are not published, this one among them; 0 when it was.
	Held int `json:"held"`
	// Brought is what came in first; null for nothing.
	Brought *Brought `json:"brought"`
	// LeftOut lists contested files.
	LeftOut   []string   `json:"leftOut"`
	Conflicts []Conflict `json:"conflicts"`
	// Along lists companions that went along.
	Along []string `json:"along"`
	// Ended lists files whose lines were ended as the project asks.
	Ended    []string `json:"ended"`
	Warnings []string `json:"warnings"`
}

// Schema names it.
func (Committed) Schema() string { return "oaken.commit/1" }

// CommittedOf gives what a commit has come to.
func CommittedOf(c *workspace.Committed) Committed {
	out := Committed{
		Files: len(c.Changes), Released: List(c.Released), Held: c.Held, Brought: BroughtOf(c.Brought), LeftOut: List(c.LeftOut),
		Conflicts: ConflictsOf(c.Conflicts),
		Along:     List(c.Along), Ended: List(c.Ended), Warnings: List(c.Warnings),
	}
	if (len(c.Changes) > 0 || c.Merge) && c.Held == 0 {
		out.Commit = OptionalCommit(&c.Commit)
	}
	return out
}

// Brought is what came in and what went out.
type Brought struct {
	// Commits counts what came in.
	Commits int `json:"commits"`
	Written int `json:"written"`
	Removed int `json:"removed"`
	// Combined lists artifacts that were edited here too.
	Combined []string `json:"combined"`
	// Unread names, by path, the engine that has not read a combined artifact which it alone can judge.
	Unread    map[string]string `json:"unread"`
	Published []Commit          `json:"published"`
	Conflicts []Conflict        `json:"conflicts"`
}

// BroughtOf gives what came in; nil for nothing.
func BroughtOf(s *workspace.Synced) *Brought {
	if s == nil {
		return nil
	}
	return &Brought{s.Commits, s.Written, s.Removed, PathsOf(s.Combined), UnreadOf(s.Combined), CommitsOf(s.Published),
		ConflictsOf(s.Conflicts)}
}

// PathsOf gives the paths of combined artifacts.
func PathsOf(list []state.Combined) []string {
	return each(list, func(c state.Combined) string { return c.Path })
}

// UnreadOf gives the engines that have not read what they alone can judge, by path.
func UnreadOf(list []state.Combined) map[string]string {
	out := map[string]string{}
	for _, c := range list {
		if c.Unread != "" {
			out[c.Path] = c.Unread
		}
	}
	return out
}

// Synced is a workspace that is as new as its branch.
type Synced struct {
	Branch string `json:"branch"`
	State  string `json:"state"`
	Brought
}

// Schema names it.
func (Synced) Schema() string { return "oaken.sync/1" }

// SyncedOf gives what a sync has come to.
func SyncedOf(w *workspace.Workspace, s *workspace.Synced) Synced {
	return Synced{w.Branch, workspace.Label(w.Base), *BroughtOf(s)}
}

// Conflict is what two sides changed in ways that can't both stand.
type Conflict struct {
	Address string  `json:"address"`
	Base    *string `json:"base"`
	Mine    *string `json:"mine"`
	Theirs  *string `json:"theirs"`
	// Keep lists the ways in which it can be settled.
	Keep []string `json:"keep"`
}

// ConflictsOf gives conflicts.
func ConflictsOf(list []element.Conflict) []Conflict {
	return each(list, func(c element.Conflict) Conflict {
		return Conflict{c.Address.String(), side(c.Base), side(c.Mine), side(c.Theirs),
			each(c.Allows, func(k element.Keep) string { return string(k) })}
	})
}

func side(s element.Side) *string {
	if s.Element == nil && s.Value.IsAbsent() {
		return nil
	}
	text := s.String()
	return &text
}

// Conflicts lists what is open.
type Conflicts struct {
	Conflicts []Conflict `json:"conflicts"`
}

// Schema names it.
func (Conflicts) Schema() string { return "oaken.conflicts/1" }

// Resolved is what was settled.
type Resolved struct {
	Settled []Conflict `json:"settled"`
	// Conflicts lists what is left.
	Conflicts []Conflict `json:"conflicts"`
}

// Schema names it.
func (Resolved) Schema() string { return "oaken.resolve/1" }

// Lock is a lock.
type Lock struct {
	Address   string `json:"address"`
	Holder    string `json:"holder"`
	Workspace string `json:"workspace"`
	Since     string `json:"since"`
	Reason    string `json:"reason"`
	Pattern   bool   `json:"pattern"`
	// Ends is when it does; null for never.
	Ends *string `json:"ends"`
	// Stale, where that was asked, says why it may be taken over: ended or silent; empty when it may not.
	Stale *string `json:"stale,omitempty"`
	// Unpublished, where that was asked, says that something under it is edited and not published.
	Unpublished *bool `json:"unpublished,omitempty"`
}

// LocksOf gives locks; with a judge and a crowd also what may be taken over, and what is not published.
func LocksOf(list []ledger.Lock, j *chest.Judge, crowd *chest.Crowd) []Lock {
	return each(list, func(l ledger.Lock) Lock {
		out := Lock{Address: l.Address, Holder: l.Holder, Workspace: l.Workspace, Since: Time(l.Since), Reason: l.Reason,
			Pattern: l.Pattern, Ends: optionalTime(l.Ends)}
		if j != nil {
			stale := string(j.Of(l))
			out.Stale = &stale
		}
		if crowd != nil {
			unpublished := crowd.Unpublished(l)
			out.Unpublished = &unpublished
		}
		return out
	})
}

// Locks lists locks.
type Locks struct {
	Locks []Lock `json:"locks"`
}

// Schema names it.
func (Locks) Schema() string { return "oaken.locks/1" }

// Locked is what was locked.
type Locked struct {
	Locked    []string `json:"locked"`
	Holder    string   `json:"holder"`
	Workspace string   `json:"workspace"`
	// Unmerged lists those whose kind can't be merged.
	Unmerged []string `json:"unmerged"`
	Locks    []Lock   `json:"locks"`
	// Taken lists the stale locks of others that were taken over.
	Taken []Lock `json:"taken"`
	// Brought is what came in first.
	Brought *Brought `json:"brought"`
	// Clash says that what is newer could not come in.
	Clash bool `json:"clash"`
	// LaidOut lists files that were brought into a workspace of a part.
	LaidOut  []string  `json:"laidOut"`
	Overlaps []Overlap `json:"overlaps"`
	// Waived lists what may be edited here without its lock.
	Waived []string `json:"waived"`
}

// Schema names it.
func (Locked) Schema() string { return "oaken.lock/1" }

// Unlocked is what was given back.
type Unlocked struct {
	Unlocked []string `json:"unlocked"`
	Freed    []Lock   `json:"freed"`
	// Edited lists what is edited here of it.
	Edited []string `json:"edited"`
}

// Schema names it.
func (Unlocked) Schema() string { return "oaken.unlock/1" }

// Overlap is an artifact that several are changing.
type Overlap struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
	// Verdict is exclusive, clashing, unknown, apart, combining or elsewhere.
	Verdict string   `json:"verdict"`
	Clashes []string `json:"clashes"`
	Sides   []Side   `json:"sides"`
}

// Side is one of those who changed it.
type Side struct {
	Branch    string         `json:"branch"`
	Workspace string         `json:"workspace"`
	Person    string         `json:"person"`
	Time      string         `json:"time"`
	State     string         `json:"state"`
	Gone      bool           `json:"gone"`
	Changes   []overlap.Told `json:"changes"`
	// More counts the changes that are not listed.
	More int `json:"more"`
}

// OverlapsOf gives overlaps.
func OverlapsOf(list []overlap.Overlap) []Overlap {
	return each(list, func(o overlap.Overlap) Overlap {
		return Overlap{o.Path, o.Kind, string(o.Verdict), List(o.Clashes), each(o.Sides, func(s overlap.Side) Side {
			return Side{s.Branch, s.Workspace, s.Person, Time(s.Time), s.State, s.Gone, List(s.Told), s.More}
		})}
	})
}

// Overlaps lists what several are changing.
type Overlaps struct {
	Overlaps []Overlap `json:"overlaps"`
}

// Schema names it.
func (Overlaps) Schema() string { return "oaken.overlaps/1" }

// Restored is what was brought back.
type Restored struct {
	From  string   `json:"from"`
	Paths []string `json:"paths"`
	// Rescued is the folder with copies of what was overwritten; empty for none.
	Rescued string `json:"rescued"`
}

// Schema names it.
func (Restored) Schema() string { return "oaken.restore/1" }

// RescueCopies lists copies of what was overwritten.
type RescueCopies struct {
	Copies []RescueCopy `json:"copies"`
}

// RescueCopy is one of them.
type RescueCopy struct {
	Path  string `json:"path"`
	Time  string `json:"time"`
	Bytes int64  `json:"bytes"`
}

// Schema names it.
func (RescueCopies) Schema() string { return "oaken.rescued/1" }

// Discarded is what was taken back.
type Discarded struct {
	Paths   []string `json:"paths"`
	Rescued string   `json:"rescued"`
	// Held counts the unsent commits that were taken back.
	Held *int `json:"held,omitempty"`
}

// Schema names it.
func (Discarded) Schema() string { return "oaken.discard/1" }

// Parked is what was set aside, or taken away for good.
type Parked struct {
	Parked string   `json:"parked"`
	Paths  []string `json:"paths"`
	Shared bool     `json:"shared"`
	// Dropped is what was taken away.
	Dropped string `json:"dropped,omitempty"`
}

// Schema names it.
func (Parked) Schema() string { return "oaken.park/1" }

// ParkedWork lists what is set aside.
type ParkedWork struct {
	Parked []ParkedEntry `json:"parked"`
}

// ParkedEntry is one of them.
type ParkedEntry struct {
	Name      string   `json:"name"`
	Person    string   `json:"person"`
	Workspace string   `json:"workspace"`
	Branch    string   `json:"branch"`
	Time      string   `json:"time"`
	Note      string   `json:"note"`
	Shared    bool     `json:"shared"`
	Paths     []string `json:"paths"`
}

// Schema names it.
func (ParkedWork) Schema() string { return "oaken.parked/1" }

// Unparked is what was brought back.
type Unparked struct {
	Unparked  string            `json:"unparked"`
	Paths     []string          `json:"paths"`
	Combined  []string          `json:"combined"`
	Unread    map[string]string `json:"unread"`
	Conflicts []Conflict        `json:"conflicts"`
	Rescued   string            `json:"rescued"`
}

// Schema names it.
func (Unparked) Schema() string { return "oaken.unpark/1" }

// Event is something that watch tells.
type Event struct {
	Time string `json:"time"`
	// Event is edited, locked, contested, overlap, arrived, committed, notice or trouble.
	Event   string   `json:"event"`
	Path    string   `json:"path"`
	Text    string   `json:"text"`
	Overlap *Overlap `json:"overlap,omitempty"`
}

// Schema names it.
func (Event) Schema() string { return "oaken.watch/1" }

// EventOf gives an event.
func EventOf(e watch.Event) Event {
	out := Event{Time: Time(e.Time), Event: string(e.Sort), Path: e.Path, Text: e.Text}
	if e.Overlap != nil {
		out.Overlap = &OverlapsOf([]overlap.Overlap{*e.Overlap})[0]
	}
	return out
}
