package chest

import (
	"strconv"
	"time"

	"oakenchest/core/ledger"
)

// Act is one intention, carried out in one transaction. The set is closed: an interpreter knows them all.
// Times and names in acts are data; who acts, and when that was received, the session says.
type Act interface {
	// Verb is what the act does, in the words of rights.
	Verb() string
	// Subject is what it does that to, for people.
	Subject() string
}

// Publish records commits and moves branches to them, with all that belongs to that: a deployment with what
// is known of it, deployments that are taken back, locks that end, a review that is closed.
type Publish struct {
	// NewBranch is made first, where it is not there; it may be a line.
	NewBranch *ledger.Branch `json:",omitempty"`
	// OwnName says that the new branch must not be there yet.
	OwnName bool `json:",omitempty"`
	// Drafts are published each on the one before; all on one branch. Of all but the first, Tip is not looked
	// at.
	Drafts []Draft `json:",omitempty"`
	// Deployment, if any, is that of the last draft's commit when there are drafts, else of the commit it
	// names.
	Deployment *Deploying `json:",omitempty"`
	// Back are deployments that are taken back.
	Back []ledger.Kept `json:",omitempty"`
	// BackBy says who takes them back, and when.
	BackBy ledger.Undone
	// Aside is the number of what was kept before that; 0 for none.
	Aside int64 `json:",omitempty"`
	// Absences are the works that an environment has no more then.
	Absences []ledger.Absence `json:",omitempty"`
	// Merge is published in the end, with the last draft's commit, or the deployment's, as its second parent.
	Merge *Draft `json:",omitempty"`
	// EndPending names the two environments of a promotion that is not to be settled any more, if it was.
	EndPending [2]string
	// Review is closed as it says, with the last commit as its outcome.
	Review *ledger.Review `json:",omitempty"`
}

// Deploying is a deployment that is recorded.
type Deploying struct {
	ledger.Deployment
	Account ledger.Account
	// Kept are the numbers of what was kept before, 0 among them for nothing.
	Kept []int64 `json:",omitempty"`
	// Proofs are the rules by which the environment was proven, by folder.
	Proofs map[string]string `json:",omitempty"`
	// Expect, when set, is the number of the record that this was decided on, 0 for none.
	Expect *int64 `json:",omitempty"`
	// OwnSource says that the account's source is the commit that is deployed.
	OwnSource bool `json:",omitempty"`
	// Former is the name by which an older program kept the record, of one workspace; empty for none.
	Former string `json:",omitempty"`
}

// TakeLocks takes locks, all or none.
type TakeLocks struct {
	// Wanted are the locks, all of one holder in one workspace.
	Wanted []ledger.Lock
	Now    time.Time
	// SilentAfter is after what time without sign of life a workspace's locks may be taken over; TakeSilent
	// takes those over that are in the way.
	SilentAfter time.Duration
	TakeSilent  bool
}

// FreeLocks gives locks back, all or none.
type FreeLocks struct {
	Holder, Workspace string
	Addresses         []string
	// Force gives back what others hold, for a reason that they are told.
	Force  bool
	Reason string
	Now    time.Time
}

// The other acts do what their names say, to the record that they hold.
type (
	// MakeBranch makes a branch.
	MakeBranch struct{ Branch ledger.Branch }
	// NameRelease names a commit for good.
	NameRelease struct{ Release ledger.Release }
	// Book reserves an environment; Seen is the number of the newest booking that was looked at.
	Book struct {
		Booking ledger.Booking
		Seen    int64
	}
	// EndBooking ends a booking before its time.
	EndBooking struct{ Booking ledger.Booking }
	// Assent says that a person wants a commit in an environment, or does no more.
	Assent struct{ Assent ledger.Assent }
	// Park sets work aside; Unpark takes the record of it away, if it is there.
	Park   struct{ Parked ledger.Parked }
	Unpark struct{ Person, Name string }
	// OpenReview asks for a review.
	OpenReview struct{ Review ledger.Review }
	// Remark says something in a review.
	Remark struct{ Remark ledger.Remark }
	// CloseReview ends a review that is open.
	CloseReview struct{ Review ledger.Review }
	// Keep records what an environment holds; Forget lets go of it; Number says to which deployment it belongs.
	Keep   struct{ Kept ledger.Kept }
	Forget struct{ Kept int64 }
	Number struct{ Kept, Deployment int64 }
	// Settle begins to settle a promotion, Choose settles conflicts of it, Unsettle gives that up.
	Settle   struct{ Pending ledger.Pending }
	Choose   struct{ Chosen []ledger.Chosen }
	Unsettle struct{ Origin, Target string }
	// Plan asks for a promotion at a time; EndPlanned says what became of it.
	Plan       struct{ Planned ledger.Planned }
	EndPlanned struct{ Planned ledger.Planned }
	// PlanRelease writes down which items a release is to have, a new one or one that is planned; with Ended it is
	// planned no more.
	PlanRelease struct{ Bundle ledger.Bundle }
	// NoteAfter notes what the commands said that were run after a deployment, as JSON.
	NoteAfter struct {
		Deployment  int64
		Environment string
		After       string
	}
	// RenameEnvironment lets the records of an environment speak of it by another name.
	RenameEnvironment struct{ From, To string }
	// Distinguish says that two elements are different things; Undistinguish takes that back.
	Distinguish   struct{ Distinct ledger.Distinct }
	Undistinguish struct{ One, Other string }
	// NoteAttempt notes what did not come about, NoteLook what somebody saw who compared.
	NoteAttempt struct{ Attempt ledger.Attempt }
	NoteLook    struct{ Look ledger.Look }
	// Notify leaves a sentence for a workspace.
	Notify struct{ Notice ledger.Notice }
)

// Verb answers Act, as do those below.
func (a Publish) Verb() string {
	switch {
	case a.Deployment != nil:
		return "deploy"
	case len(a.Back) > 0 || len(a.Absences) > 0:
		return "take-back"
	}
	return "publish"
}

func (TakeLocks) Verb() string { return "lock" }
func (a FreeLocks) Verb() string {
	return map[bool]string{false: "unlock", true: "free-locks"}[a.Force]
}
func (MakeBranch) Verb() string        { return "branch" }
func (NameRelease) Verb() string       { return "release" }
func (Book) Verb() string              { return "book" }
func (EndBooking) Verb() string        { return "end-booking" }
func (Assent) Verb() string            { return "approve" }
func (Park) Verb() string              { return "park" }
func (Unpark) Verb() string            { return "unpark" }
func (OpenReview) Verb() string        { return "review" }
func (Remark) Verb() string            { return "remark" }
func (CloseReview) Verb() string       { return "close-review" }
func (Keep) Verb() string              { return "keep" }
func (Forget) Verb() string            { return "forget" }
func (Number) Verb() string            { return "number" }
func (Settle) Verb() string            { return "settle" }
func (Choose) Verb() string            { return "choose" }
func (Unsettle) Verb() string          { return "unsettle" }
func (Plan) Verb() string              { return "plan" }
func (EndPlanned) Verb() string        { return "end-planned" }
func (PlanRelease) Verb() string       { return "plan-release" }
func (NoteAfter) Verb() string         { return "after" }
func (RenameEnvironment) Verb() string { return "rename-environment" }
func (Distinguish) Verb() string       { return "distinguish" }
func (Undistinguish) Verb() string     { return "undistinguish" }
func (NoteAttempt) Verb() string       { return "attempt" }
func (NoteLook) Verb() string          { return "look" }
func (Notify) Verb() string            { return "notify" }

// Subject answers Act, as do those below.
func (a Publish) Subject() string {
	switch {
	case a.Deployment != nil:
		return "env:" + a.Deployment.Environment
	case len(a.Drafts) > 0:
		return a.Drafts[0].Branch
	case len(a.Absences) > 0:
		return "env:" + a.Absences[0].Environment
	case a.NewBranch != nil:
		return a.NewBranch.Name
	}
	return ""
}

func (a TakeLocks) Subject() string {
	if len(a.Wanted) == 0 {
		return ""
	}
	return a.Wanted[0].Address
}

func (a FreeLocks) Subject() string {
	if len(a.Addresses) == 0 {
		return ""
	}
	return a.Addresses[0]
}

func (a MakeBranch) Subject() string        { return a.Branch.Name }
func (a NameRelease) Subject() string       { return "release:" + a.Release.Name }
func (a Book) Subject() string              { return "env:" + a.Booking.Environment }
func (a EndBooking) Subject() string        { return "env:" + a.Booking.Environment }
func (a Assent) Subject() string            { return "env:" + a.Assent.Environment }
func (a Park) Subject() string              { return "parked:" + a.Parked.Name }
func (a Unpark) Subject() string            { return "parked:" + a.Name }
func (a OpenReview) Subject() string        { return a.Review.Source }
func (a Remark) Subject() string            { return numbered("review", a.Remark.Review) }
func (a CloseReview) Subject() string       { return numbered("review", a.Review.Number) }
func (a Keep) Subject() string              { return "env:" + a.Kept.Environment }
func (a Forget) Subject() string            { return numbered("kept", a.Kept) }
func (a Number) Subject() string            { return numbered("kept", a.Kept) }
func (a Settle) Subject() string            { return "env:" + a.Pending.Target }
func (a Unsettle) Subject() string          { return "env:" + a.Target }
func (a Plan) Subject() string              { return "env:" + a.Planned.Target }
func (a EndPlanned) Subject() string        { return "env:" + a.Planned.Target }
func (a PlanRelease) Subject() string       { return "release:" + a.Bundle.Name }
func (a NoteAfter) Subject() string         { return "env:" + a.Environment }
func (a RenameEnvironment) Subject() string { return "env:" + a.From }
func (a Distinguish) Subject() string       { return a.Distinct.One }
func (a Undistinguish) Subject() string     { return a.One }
func (a NoteAttempt) Subject() string       { return "env:" + a.Attempt.Environment }
func (a NoteLook) Subject() string          { return "env:" + a.Look.Environment }
func (a Notify) Subject() string            { return a.Notice.Workspace }

func (a Choose) Subject() string {
	if len(a.Chosen) == 0 {
		return ""
	}
	return a.Chosen[0].Address
}

func numbered(what string, n int64) string { return what + " " + strconv.FormatInt(n, 10) }
