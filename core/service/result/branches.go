package result

import (
	"oakenchest/core/history"
	"oakenchest/core/ledger"
	"oakenchest/core/review"
	"oakenchest/core/state"
)

// Branched is a branch that was made.
type Branched struct {
	Branch string `json:"branch"`
	// Tip is the id of the commit that it begins at.
	Tip string `json:"tip"`
	// Environment is that which was made with it.
	Environment *Environment `json:"environment,omitempty"`
}

// Schema names it.
func (Branched) Schema() string { return "oaken.branch/1" }

// Branches lists branches.
type Branches struct {
	Branches []Branch `json:"branches"`
}

// Branch is one of them.
type Branch struct {
	Branch string `json:"branch"`
	// Tip is its newest commit.
	Tip    string `json:"tip"`
	Origin string `json:"origin"`
	Author string `json:"author"`
	Time   string `json:"time"`
	// Current says that the workspace is on it.
	Current bool `json:"current"`
}

// Schema names it.
func (Branches) Schema() string { return "oaken.branches/1" }

// Went is a workspace that went to a branch.
type Went struct {
	Branch  string `json:"branch"`
	State   string `json:"state"`
	Written int    `json:"written"`
	Removed int    `json:"removed"`
}

// Schema names it.
func (Went) Schema() string { return "oaken.switch/1" }

// Merged is what a merge or revert has come to, would come to, or was given up as.
type Merged struct {
	UpToDate  bool       `json:"upToDate"`
	Commit    *Commit    `json:"commit"`
	Conflicts []Conflict `json:"conflicts"`
	// Merged lists the artifacts that both sides had changed.
	Merged []string          `json:"merged"`
	Unread map[string]string `json:"unread"`
	// Edits lists, with --dry-run, the files that would change.
	Edits *[]MergeEdit `json:"edits,omitempty"`
	// Abandoned says, with --abandon, what was given up.
	Abandoned string `json:"abandoned,omitempty"`
	// Rescued is the folder with copies of what was edited since.
	Rescued *string `json:"rescued,omitempty"`
}

// MergeEdit is a file that would change.
type MergeEdit struct {
	Path string `json:"path"`
	Gone bool   `json:"gone"`
}

// Schema names it.
func (Merged) Schema() string { return "oaken.merge/1" }

// ForeseenOf gives what a merge would come to.
func ForeseenOf(m *state.Merged) Merged {
	edits := each(m.Edits, func(e state.Edit) MergeEdit { return MergeEdit{e.Path, e.Gone} })
	return Merged{UpToDate: len(m.Edits)+len(m.Conflicts) == 0, Conflicts: ConflictsOf(m.Conflicts), Merged: PathsOf(m.Artifacts),
		Unread: UnreadOf(m.Artifacts), Edits: &edits}
}

// History lists commits.
type History struct {
	Commits []HistoryEntry `json:"commits"`
	// More says that there are more than those.
	More bool `json:"more"`
}

// HistoryEntry is a commit, of a path also as its version.
type HistoryEntry struct {
	Commit
	// Version counts the versions of the path up to this one, Versions all.
	Version  *int `json:"version,omitempty"`
	Versions *int `json:"versions,omitempty"`
	// Path is what it was called then, From what it had been called before.
	Path *string `json:"path,omitempty"`
	From *string `json:"from,omitempty"`
}

// Schema names it.
func (History) Schema() string { return "oaken.history/1" }

// HistoryOf gives commits.
func HistoryOf(list []history.Entry, more bool) History {
	return History{each(list, func(e history.Entry) HistoryEntry {
		out := HistoryEntry{Commit: CommitOf(e.Commit)}
		if e.Version > 0 {
			out.Version, out.Versions, out.Path, out.From = &e.Version, &e.Versions, &e.Path, &e.From
		}
		return out
	}), more}
}

// Shown is a commit with what it did.
type Shown struct {
	Commit Commit `json:"commit"`
	// Picks is the commit that it does again; null for none.
	Picks *Commit `json:"picks"`
	// Takes lists the commits that it takes back.
	Takes   []Commit `json:"takes"`
	Changes []Change `json:"changes"`
}

// Schema names it.
func (Shown) Schema() string { return "oaken.show/1" }

// Released is a release that was made.
type Released struct {
	Release string `json:"release"`
	Commit  Commit `json:"commit"`
}

// Schema names it.
func (Released) Schema() string { return "oaken.release/1" }

// Releases lists releases.
type Releases struct {
	Releases []Release `json:"releases"`
}

// Release is one of them.
type Release struct {
	Release string `json:"release"`
	State   string `json:"state"`
	Commit  string `json:"commit"`
	Author  string `json:"author"`
	Time    string `json:"time"`
	Comment string `json:"comment"`
}

// Schema names it.
func (Releases) Schema() string { return "oaken.releases/1" }

// ReviewEntry is a review, without what was said in it.
type ReviewEntry struct {
	Number    int64  `json:"number"`
	Title     string `json:"title"`
	Text      string `json:"text"`
	Item      string `json:"item"`
	Source    string `json:"source"`
	Target    string `json:"target"`
	Author    string `json:"author"`
	Workspace string `json:"workspace"`
	Opened    string `json:"opened"`
	// State is open, open again, declined, ready, merged or withdrawn.
	State string   `json:"state"`
	Tip   string   `json:"tip"`
	Paths []string `json:"paths"`
	// Missing lists what keeps it from being merged.
	Missing []string `json:"missing"`
	// Commit is the id of what it came to; empty before.
	Commit string `json:"commit"`
}

// Review is a review.
type Review struct {
	ReviewEntry
	Remarks   []Remark   `json:"remarks"`
	Conflicts []Conflict `json:"conflicts"`
}

// Remark is what somebody said.
type Remark struct {
	Kind    string `json:"kind"`
	Address string `json:"address"`
	Author  string `json:"author"`
	Time    string `json:"time"`
	Text    string `json:"text"`
	Tip     string `json:"tip"`
	// Current says that it is about the newest commit.
	Current bool `json:"current"`
}

// Schema names it.
func (Review) Schema() string { return "oaken.review/1" }

// Reviews lists reviews.
type Reviews struct {
	Reviews []ReviewEntry `json:"reviews"`
}

// Schema names it.
func (Reviews) Schema() string { return "oaken.reviews/1" }

// ReviewEntryOf gives a review without what was said in it.
func ReviewEntryOf(r *review.Review) ReviewEntry {
	outcome := ""
	if r.Outcome != (ledger.ID{}) {
		outcome = r.Outcome.String()
	}
	return ReviewEntry{r.Number, r.Title, r.Text, r.Item, r.Source, r.Target, r.Author, r.Workspace, Time(r.Opened), r.Standing(),
		r.Tip.ID.String(), List(r.Paths), List(r.Missing), outcome}
}

// ReviewOf gives a review.
func ReviewOf(r *review.Review) Review {
	return Review{ReviewEntryOf(r), each(r.Remarks, func(m ledger.Remark) Remark {
		return Remark{string(m.Kind), m.Address, m.Author, Time(m.Time), m.Text, m.Tip.String(), m.Tip == r.Tip.ID}
	}), ConflictsOf(r.Conflicts)}
}
