package chest

import (
	"context"
	"encoding/json"
	"time"

	"oakenchest/core/content"
	"oakenchest/core/ledger"
)

// Store is what stands behind a chest: a folder, and whatever else keeps the same promises, which package
// chesttest holds it to. No SQL, no path, no process and no function crosses it, so it may be far away.
//
// Each call may be cut off by its context: then nothing of it was done, or all, as asking again by the same
// key tells.
type Store interface {
	// View gives a consistent, read-only view of the records.
	View(ctx context.Context) (ledger.Records, error)
	// Do carries out one act in one transaction, all of it or nothing, together with its row in the trail.
	// What it was decided on is looked at there: where that has changed, the act is refused with a *Refusal.
	// The answer is durable. Asked again by the same key, within KeptAnswers, it gives the same answer and does nothing.
	Do(ctx context.Context, r Request) (Outcome, error)
	// Lease takes, renews or gives back a lease by comparing and exchanging; *Refusal with Taken or LeaseLost
	// when somebody else was faster.
	Lease(ctx context.Context, s LeaseStep) error
	// Tell records what a workspace tells of itself; it is no act.
	Tell(ctx context.Context, n News) error
	// Register records a new workspace, under a name that no other one has: the one that is wished for, or
	// that with a number. It gives the name.
	Register(ctx context.Context, w ledger.Workspace) (string, error)
	// Heard takes away the sentences for a workspace, up to one.
	Heard(ctx context.Context, workspace string, upTo int64) error
	// Flaws says what is wrong with the records themselves.
	Flaws(ctx context.Context) ([]string, error)
	// Contents are the bytes.
	Contents() *content.Store
	// Now is the time of the chest, by which acts are received.
	Now() time.Time
	// Place says for people where the chest is.
	Place() string
	Close() error
}

// Keeper is a Store that does itself what needs all of its bytes at hand.
type Keeper interface {
	Examine(ctx context.Context, progress func(what string, done, total int)) (*Examination, error)
	Tidy(ctx context.Context) (content.Tidied, error)
	Usage(ctx context.Context) (*Usage, error)
}

// Guided is a Store that has to know where contents lie: it is told what each folder holds that is read.
type Guided interface {
	Guide(folder content.Digest, entries []File)
}

// Signaller is a Store that tells when something may have happened, where others have to ask.
type Signaller interface {
	// Signals gives a sign each time, until ctx ends; several at once may be one.
	Signals(ctx context.Context) <-chan struct{}
}

// Attendant is a Store behind which a server reaches environments, with secrets that stay there. What is asked and answered is
// JSON; package pipeline says what it means.
type Attendant interface {
	// Inquire puts a question to the driver of a target. told, when set, hears how far it is.
	Inquire(ctx context.Context, at, question, answer any, told func(what string, done, total int)) error
	// Errand has something done that changes an environment, once for each id, and tells signs of it. It goes on when nobody
	// listens any more, unless ctx ends. An error may come beside a report. UncertainError when nobody knows whether it was done.
	Errand(ctx context.Context, id, workspace string, errand, report any, told func(sign json.RawMessage)) error
}

type newly struct{}

// AskNewly marks a context in which the records are asked for as they are now, whatever was remembered of them.
func AskNewly(ctx context.Context) context.Context { return context.WithValue(ctx, newly{}, true) }

// Newly reports whether AskNewly marked a context.
func Newly(ctx context.Context) bool { return ctx.Value(newly{}) != nil }

// UncertainError says that an act was asked for, and no answer came: it may have been done.
type UncertainError struct{ Err error }

// Error says so.
func (e *UncertainError) Error() string {
	return "it is not known whether it was done: " + e.Err.Error()
}

// Unwrap gives what happened to the answer.
func (e *UncertainError) Unwrap() error { return e.Err }

// KeptAnswers is how long an answer can be asked for again.
const KeptAnswers = 30 * 24 * time.Hour

// Actor is who acts, as the session knows it.
type Actor struct{ Person, Workspace string }

// Request asks for an act.
type Request struct {
	// Key names this request among all: of two with one key, one is carried out.
	Key   string
	Actor Actor
	Act   Act
	On    Grounds
	// Asked is the act as it was asked for, where Act has what the session knows better, such as the time; nil where it has
	// not. Of two requests with one key it tells whether they ask for the same.
	Asked Act
}

// Grounds are what an act was decided on, beside what it says itself: it is refused when one has changed.
type Grounds struct {
	// Leases are those under which it was decided; a fence that is not the newest decides nothing.
	Leases []Fence `json:",omitempty"`
	// Rules is where the first branch was when its rules were read; nil when none were.
	Rules *ledger.ID `json:",omitempty"`
	// Tidied is how often the chest had been tidied when the contents that the act names were stored; nil
	// when it names none.
	Tidied *int64 `json:",omitempty"`
}

// Fence is a lease at a moment.
type Fence struct {
	Lease  string
	Number int64
}

// Outcome is what came of an act.
type Outcome struct {
	// Commits are those that were published, in the order of the act.
	Commits []ledger.Commit `json:",omitempty"`
	// Number is that of a new record.
	Number int64 `json:",omitempty"`
	// Locks are those that were freed, or taken over from others; Had are addresses that were held before.
	Locks []ledger.Lock `json:",omitempty"`
	Had   []string      `json:",omitempty"`
}

// LeaseStep is one step with a lease.
type LeaseStep struct {
	Do LeaseVerb
	// Seen is the lease as it was seen; of Beat and Free, its name, owner and fence count.
	Seen ledger.Lease
	// Take is what is written in its place.
	Take ledger.Lease
}

// LeaseVerb is what is done with a lease.
type LeaseVerb string

// The verbs.
const (
	TakeLease LeaseVerb = "take"
	BeatLease LeaseVerb = "beat"
	FreeLease LeaseVerb = "free"
	// ProbeLease writes something that says nothing: when it comes back, the chest could be written.
	ProbeLease LeaseVerb = "probe"
)

// News is what a workspace tells of itself: its record, what is newly edited, what is edited no more.
type News struct {
	Workspace ledger.Workspace
	Put       []ledger.Edit
	Gone      []ledger.Edit
}
