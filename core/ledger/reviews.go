package ledger

import "time"

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

func scanReview(scan func(...any) error) (Review, error) {
	var r Review
	var outcome string
	var opened, closed int64
	if err := scan(&r.Number, &r.Title, &r.Text, &r.Item, &r.Source, &r.Target, &r.Author, &r.Workspace, &opened, &r.State, &r.Closer, &closed, &outcome); err != nil {
		return r, err
	}
	r.Opened, r.Closed = time.UnixMilli(opened).UTC(), optionalTime(closed)
	var err error
	r.Outcome, err = parseOptional(outcome)
	return r, err
}

const reviewColumns = "select number, title, text, item, source, target, author, workspace, opened, state, closer, closed, outcome from reviews"

func (r Review) fields() []any {
	return []any{r.Title, r.Text, r.Item, r.Source, r.Target, r.Author, r.Workspace, r.Opened.UnixMilli(), string(r.State), r.Closer, optionalMilli(r.Closed), optional(r.Outcome)}
}

// AddReview records a review and gives its number.
func (tx *Tx) AddReview(r Review) (n int64, err error) {
	if err := tx.insert("reviews", r.fields()...); err != nil {
		return 0, err
	}
	err = tx.tx.QueryRowContext(tx.ctx, "select max(number) from reviews").Scan(&n)
	return n, err
}

// Review gives one review, or ErrNotFound.
func (tx *Tx) Review(number int64) (Review, error) {
	r, err := scanReview(tx.tx.QueryRowContext(tx.ctx, reviewColumns+" where number = ?", number).Scan)
	return r, one(err)
}

// Reviews gives all reviews, the newest first.
func (tx *Tx) Reviews() ([]Review, error) {
	return rows(tx, scanReview, reviewColumns+" order by number desc")
}

// CloseReview writes how a review ended.
func (tx *Tx) CloseReview(r Review) error {
	fields := r.fields()
	_, err := tx.tx.ExecContext(tx.ctx, "update reviews set state = ?, closer = ?, closed = ?, outcome = ?, sum = ? where number = ?",
		string(r.State), r.Closer, optionalMilli(r.Closed), optional(r.Outcome), rowSum(fields), r.Number)
	return err
}

// AddRemark records what somebody said in a review.
func (tx *Tx) AddRemark(r Remark) error {
	return tx.insert("remarks", r.Review, string(r.Kind), r.Address, optional(r.Tip), r.Author, r.Time.UnixMilli(), r.Text)
}

// Remarks gives what was said in a review, in order.
func (tx *Tx) Remarks(review int64) ([]Remark, error) {
	return rows(tx, func(scan func(...any) error) (Remark, error) {
		var r Remark
		var tip string
		var ms int64
		if err := scan(&r.ID, &r.Review, &r.Kind, &r.Address, &tip, &r.Author, &ms, &r.Text); err != nil {
			return r, err
		}
		r.Time = time.UnixMilli(ms).UTC()
		var err error
		r.Tip, err = parseOptional(tip)
		return r, err
	}, "select id, review, kind, address, tip, author, time, text from remarks where review = ? order by id", review)
}
