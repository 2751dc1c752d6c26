package pipeline

import (
	"context"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
	"oakenchest/core/state"
	"oakenchest/core/workspace"
)

// Desk is a person's folder, as far as moving work needs one: what lies in it, and bringing things into it. It
// is a workspace; where there is none, NoDesk stands for it, and what can't be done without is refused.
type Desk interface {
	// Stands gives the branch that is worked on, and the commit that the files were brought from.
	Stands() (branch string, base ledger.Commit)
	// Work is the state of the files, BaseState what changes in them are counted against.
	Work() state.State
	BaseState() state.State
	// Pending gives the merge that is under way, nil for none; Unsent says that commits
	// wait to be published; Away that the chest is out of reach.
	Pending() (*workspace.Pending, error)
	Unsent() bool
	Away() bool
	// Sync brings newer commits of the branch in; Follow does, where a branch was worked on at a commit.
	Sync(ctx context.Context) (*workspace.Synced, error)
	Follow(ctx context.Context, branch string, before ledger.Commit) error
	// WriteFiles puts files into a folder; what they overwrite and no commit holds is rescued.
	WriteFiles(ctx context.Context, folder string, files map[string][]byte) (paths []string, rescued string, err error)
	// TakeCaptured, TakeMore, Merge and MergeCaptured lay open what came from an environment.
	TakeCaptured(ctx context.Context, c workspace.Capture, files map[string][]byte) (paths []string, rescued string, err error)
	TakeMore(ctx context.Context, c workspace.Capture, files map[string][]byte) (paths []string, err error)
	Merge(ctx context.Context, theirs ledger.Commit, label, message string) (*workspace.MergeResult, error)
	MergeCaptured(ctx context.Context, c workspace.Capture) (*workspace.MergeResult, error)
	// PublishCaptured records what was captured as a commit on the environment's record.
	PublishCaptured(ctx context.Context, c workspace.Capture, message, item string, merge chest.Draft) (chest.Concluded, error)
	// MayChange refuses paths that somebody else has locked, or that need a lock.
	MayChange(ctx context.Context, files map[string][]byte) error
	// SavesRows gives the folder into which rows are saved that an environment would lose.
	SavesRows() string
}

// NoDesk stands for a desk where there is none: for a server, a schedule, a build.
type NoDesk struct {
	Project *project.Project
	// Newest is the commit that counts for what a workspace would have: that of the first branch, say.
	Newest ledger.Commit
	// Saves is a folder for rows that an environment would lose.
	Saves string
}

func needsDesk() error {
	return fault.New(fault.Refused, "Run it in a workspace of the project; oaken open makes one.",
		"This needs a workspace, and there is none.")
}

// Stands answers Desk, as do those below.
func (n NoDesk) Stands() (string, ledger.Commit) { return n.Newest.Branch, n.Newest }

func (n NoDesk) Work() state.State { return n.BaseState() }

func (n NoDesk) BaseState() state.State {
	return n.Project.CommitState(n.Newest, project.Label(n.Newest))
}

func (n NoDesk) Pending() (*workspace.Pending, error) { return nil, nil }

func (n NoDesk) Unsent() bool { return false }

func (n NoDesk) Away() bool { return false }

func (n NoDesk) Sync(context.Context) (*workspace.Synced, error) { return &workspace.Synced{}, nil }

func (n NoDesk) Follow(context.Context, string, ledger.Commit) error { return nil }

func (n NoDesk) WriteFiles(context.Context, string, map[string][]byte) ([]string, string, error) {
	return nil, "", needsDesk()
}

func (n NoDesk) TakeCaptured(context.Context, workspace.Capture, map[string][]byte) ([]string, string, error) {
	return nil, "", needsDesk()
}

func (n NoDesk) TakeMore(context.Context, workspace.Capture, map[string][]byte) ([]string, error) {
	return nil, needsDesk()
}

func (n NoDesk) Merge(context.Context, ledger.Commit, string, string) (*workspace.MergeResult, error) {
	return nil, needsDesk()
}

func (n NoDesk) MergeCaptured(context.Context, workspace.Capture) (*workspace.MergeResult, error) {
	return nil, needsDesk()
}

func (n NoDesk) PublishCaptured(context.Context, workspace.Capture, string, string, chest.Draft) (chest.Concluded, error) {
	return chest.Concluded{}, needsDesk()
}

func (n NoDesk) MayChange(context.Context, map[string][]byte) error { return nil }

func (n NoDesk) SavesRows() string { return n.Saves }

// branch is the one that is worked on.
func (m *Mover) branch() string {
	branch, _ := m.Desk.Stands()
	return branch
}

// base is the commit that the files were brought from.
func (m *Mover) base() ledger.Commit {
	_, base := m.Desk.Stands()
	return base
}
