package ledger

import (
	"time"
)

// Review asks whether the work of one branch may go into another.
type Review struct {
	Number int64
	Title  string
	Text   string
	Item   string
	// Source is the branch whose work it is, Target the branch that it is to go into.
	Source, Target string
	Author         string
	Workspace      string
	Opened         time.Time
	// State is one of the states of a review.
	State ReviewState
	// Closer merged or withdrew it, at Closed.
	Closer string
	Closed time.Time
	// Outcome is the commit that the merge made; zero for none.
	Outcome ID
}

// ReviewState says whether a review is still open.
type ReviewState string

// The states of a review.
const (
	ReviewOpen   ReviewState = "open"
	ReviewMerged ReviewState = "merged"
	ReviewEnded  ReviewState = "withdrawn"
)

// Remark is what somebody said in a review.
type Remark struct {
	ID     int64
	Review int64
	Kind   RemarkKind
	// Address is the artifact or element that a comment is about; empty for the whole.
	Address string
	// Tip is where the source branch was when it was said.
	Tip    ID
	Author string
	Time   time.Time
	// Text is what was said; of a check, the end of its output.
	Text string
}

// RemarkKind says what a remark is.
type RemarkKind string

// The kinds of remarks. A check is named after what was checked: check:NAME or failed:NAME.
const (
	Comment  RemarkKind = "comment"
	Approval RemarkKind = "approval"
	Decline  RemarkKind = "decline"
)
