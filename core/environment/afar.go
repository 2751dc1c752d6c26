package environment

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/schema/step"
)

// A driver that runs elsewhere is asked with data and answers with data. It only looks: what changes a target is carried
// out where the driver runs.

// The things that can be asked.
const (
	AskReach   = "reach"   // whether the target answers, and what its driver can do
	AskCapture = "capture" // Driver.Capture
	AskPlan    = "plan"    // Driver.Plan
	AskBefore  = "before"  // Driver.Plan, and its Before
	AskGuard   = "guard"   // Driver.Plan, and its Guard
	AskRows    = "rows"    // RowsKeeper.Rows
	AskAuthors = "authors" // Logger.Authors
)

// Question is asked of a driver that runs elsewhere.
type Question struct {
	Ask string `json:"ask"`
	// Files are those of the project, or those that are declared.
	Files  Files    `json:"files,omitempty"`
	Past   *Past    `json:"past,omitempty"`
	Tables []string `json:"tables,omitempty"`
}

// Answer is what it answers.
type Answer struct {
	// Logs and Rows say that the driver is a Logger, a RowsKeeper.
	Logs     bool          `json:"logs,omitempty"`
	Rows     bool          `json:"rows,omitempty"`
	Captured *capturedData `json:"captured,omitempty"`
	Plan     *planData     `json:"plan,omitempty"`
	Files    Files         `json:"files,omitempty"`
	Guard    []string      `json:"guard,omitempty"`
	Authors  []Author      `json:"authors,omitempty"`
	Self     string        `json:"self,omitempty"`
	// Failed is an error on which callers act.
	Failed *failure `json:"failed,omitempty"`
}

// failure is such an error: a target that is missing, or rows that are in the way.
type failure struct {
	Code    fault.Code      `json:"code"`
	What    string          `json:"what"`
	Hint    string          `json:"hint,omitempty"`
	Missing bool            `json:"missing,omitempty"`
	Rows    *step.RowsError `json:"rows,omitempty"`
}

func (f *failure) error() error {
	e := &fault.Error{Code: f.Code, What: f.What, Hint: f.Hint}
	switch {
	case f.Missing:
		e.Err = ErrMissing
	case f.Rows != nil:
		e.Err = f.Rows
	}
	return e
}

// failureOf gives an error on which callers act; nil for any other.
func failureOf(err error) *failure {
	out := &failure{Missing: errors.Is(err, ErrMissing)}
	if !errors.As(err, &out.Rows) && !out.Missing {
		return nil
	}
	out.Code, out.What, out.Hint = fault.CodeOf(err), err.Error(), fault.HintOf(err)
	return out
}

// capturedData is a Captured: files that are those of the question after the edits are left out.
type capturedData struct {
	Edits     Files     `json:"edits"`
	Files     Files     `json:"files,omitempty"`
	Whole     bool      `json:"whole,omitempty"` // Files are all there are
	Tree      *skeleton `json:"tree"`
	Untracked []string  `json:"untracked,omitempty"`
	Renamed   []Rename  `json:"renamed,omitempty"`
	Unseen    []string  `json:"unseen,omitempty"`
}

// skeleton is a tree of elements by their types and keys alone.
type skeleton struct {
	Type   string      `json:"type"`
	Key    string      `json:"key,omitempty"`
	Inside []*skeleton `json:"inside,omitempty"`
}

func skeletonOf(e *element.Element) *skeleton {
	if e == nil {
		return nil
	}
	out := &skeleton{Type: e.Type, Key: e.Key}
	for _, c := range e.Children {
		out.Inside = append(out.Inside, skeletonOf(c))
	}
	return out
}

func (s *skeleton) element() *element.Element {
	if s == nil {
		return &element.Element{}
	}
	out := &element.Element{Type: s.Type, Key: s.Key}
	for _, c := range s.Inside {
		out.Children = append(out.Children, c.element())
	}
	return out
}

// planData is a Plan.
type planData struct {
	Steps   []Step   `json:"steps"`
	Opening []string `json:"opening,omitempty"`
	Begin   []string `json:"begin,omitempty"`
	Closing []string `json:"closing,omitempty"`
	Stays   []string `json:"stays,omitempty"`
	Noted   bool     `json:"noted,omitempty"`
	Saves   bool     `json:"saves,omitempty"`
	Guarded bool     `json:"guarded,omitempty"`
}

// Respond answers a question with a driver.
func Respond(ctx context.Context, d Driver, q Question) (Answer, error) {
	out, err := respond(ctx, d, q)
	if f := failureOf(err); f != nil {
		return Answer{Failed: f}, nil
	}
	return out, err
}

// RespondTo answers with an error that a target could not be opened for.
func RespondTo(err error) (Answer, error) {
	if f := failureOf(err); f != nil {
		return Answer{Failed: f}, nil
	}
	return Answer{}, err
}

func respond(ctx context.Context, d Driver, q Question) (out Answer, err error) {
	logger, logs := d.(Logger)
	keeper, rows := d.(RowsKeeper)
	switch q.Ask {
	case AskReach:
		return Answer{Logs: logs, Rows: rows}, nil
	case AskCapture:
		c, err := d.Capture(ctx, given(q.Files))
		if err != nil {
			return out, err
		}
		out.Captured = &capturedData{Edits: c.Edits, Tree: skeletonOf(c.Tree), Untracked: c.Untracked, Renamed: c.Renamed, Unseen: c.Unseen}
		if !maps.EqualFunc(c.Files, With(given(q.Files), c.Edits), bytes.Equal) {
			out.Captured.Files, out.Captured.Whole = c.Files, true
		}
		return out, nil
	case AskPlan, AskBefore, AskGuard:
		return respondPlan(ctx, d, q)
	case AskRows:
		if rows {
			out.Files, err = keeper.Rows(ctx, q.Tables)
			return out, err
		}
	case AskAuthors:
		if logs {
			out.Authors, out.Self, err = logger.Authors(ctx)
			return out, err
		}
	}
	return out, fault.New(fault.Usage, "Use the same version of oaken at both ends.", "The driver of this target is not asked for %q.",
		q.Ask)
}

func respondPlan(ctx context.Context, d Driver, q Question) (out Answer, err error) {
	p, err := d.Plan(ctx, given(q.Files), q.Past)
	if err != nil {
		return out, err
	}
	out.Plan = &planData{Steps: p.Steps, Opening: p.Opening, Begin: p.Begin, Closing: p.Closing, Stays: p.Stays, Noted: p.Noted,
		Saves: p.Save != nil, Guarded: p.Guard != nil}
	switch {
	case q.Ask == AskBefore:
		out.Files, err = p.Before(ctx)
	case q.Ask == AskGuard && p.Guard != nil:
		out.Guard, err = p.Guard(ctx)
	}
	return out, err
}

// given gives files that may have crossed as none.
func given(files Files) Files {
	if files == nil {
		return Files{}
	}
	return files
}

// Asking puts a question to a driver that runs elsewhere.
type Asking func(ctx context.Context, q Question) (Answer, error)

// Afar gives a driver that only looks, by asking the one that runs elsewhere; target says of which sort it is. It asks at once
// whether the target answers.
func Afar(ctx context.Context, target string, ask Asking) (Driver, error) {
	s, _, err := split(target)
	if err != nil {
		return nil, err
	}
	d := &afar{sort: s, ask: func(ctx context.Context, q Question) (Answer, error) {
		a, err := ask(ctx, q)
		if err == nil && a.Failed != nil {
			err = a.Failed.error()
		}
		return a, err
	}}
	can, err := d.ask(ctx, Question{Ask: AskReach})
	switch {
	case err != nil && !errors.Is(err, ErrMissing): // what is missing is said when it is read
		return nil, err
	case can.Logs && can.Rows:
		return struct {
			*afar
			afarLog
			afarRows
		}{d, afarLog{d}, afarRows{d}}, nil
	case can.Logs:
		return struct {
			*afar
			afarLog
		}{d, afarLog{d}}, nil
	case can.Rows:
		return struct {
			*afar
			afarRows
		}{d, afarRows{d}}, nil
	}
	return d, nil
}

type afar struct {
	sort Sort
	ask  Asking
}

func (d *afar) Close() error { return nil }

func (d *afar) Capture(ctx context.Context, have Files) (*Captured, error) {
	a, err := d.ask(ctx, Question{Ask: AskCapture, Files: have})
	if err != nil {
		return nil, err
	}
	c := a.Captured
	if c == nil {
		return nil, unanswered(AskCapture)
	}
	out := &Captured{Files: given(c.Files), Edits: given(c.Edits), Tree: c.Tree.element(), Untracked: c.Untracked, Renamed: c.Renamed,
		Unseen: c.Unseen}
	if !c.Whole {
		out.Files = With(have, c.Edits)
	}
	return out, nil
}

func (d *afar) Plan(ctx context.Context, declared Files, past *Past) (*Plan, error) {
	q := Question{Ask: AskPlan, Files: declared, Past: past}
	a, err := d.ask(ctx, q)
	if err != nil {
		return nil, err
	}
	if a.Plan == nil {
		return nil, unanswered(AskPlan)
	}
	seen := a.Plan
	p := &Plan{Steps: slices.Clone(seen.Steps), Opening: seen.Opening, Begin: seen.Begin, Closing: seen.Closing, Stays: seen.Stays,
		Noted: seen.Noted}
	if d.sort.Speaks != nil {
		d.sort.Speaks(p)
	}
	again := func(ctx context.Context, what string) (Answer, error) {
		q := q
		q.Ask = what
		a, err := d.ask(ctx, q)
		if err == nil && !seen.equal(a.Plan) {
			err = ChangedSince("target")
		}
		return a, err
	}
	p.Before = func(ctx context.Context) (Files, error) {
		a, err := again(ctx, AskBefore)
		return given(a.Files), err
	}
	if seen.Guarded {
		p.Guard = func(ctx context.Context) ([]string, error) {
			a, err := again(ctx, AskGuard)
			return a.Guard, err
		}
	}
	if seen.Saves {
		p.Save = func(context.Context, string) error { return errOnlyLooks }
	}
	p.Apply = func(context.Context, func(int)) error { return Undone(errOnlyLooks) }
	p.Recorded = func(context.Context) error { return nil }
	return p, nil
}

// equal reports whether two plans are one, as data.
func (p *planData) equal(o *planData) bool {
	a, err1 := json.Marshal(p)
	b, err2 := json.Marshal(o)
	return err1 == nil && err2 == nil && bytes.Equal(a, b)
}

var errOnlyLooks = fault.New(fault.Refused, "Change it with oaken deploy, promote, rollback or withdraw, which do it there.",
	"The target is reached at the server, and from here it can only be looked at.")

func unanswered(what string) error {
	return fault.New(fault.Unreachable, "Use the same version of oaken at both ends.", "The server did not answer the question %q.", what)
}

// afarLog and afarRows are what some drivers can do beside.
type (
	afarLog  struct{ d *afar }
	afarRows struct{ d *afar }
)

func (l afarLog) Prepare(context.Context) (bool, error)   { return false, errOnlyLooks }
func (l afarLog) Unprepare(context.Context) (bool, error) { return false, errOnlyLooks }

func (l afarLog) Authors(ctx context.Context) ([]Author, string, error) {
	a, err := l.d.ask(ctx, Question{Ask: AskAuthors})
	for i := range a.Authors {
		names := a.Authors[i].Names
		a.Authors[i].Changed = func(schema string, e *element.Element) bool {
			return l.d.sort.Concerns != nil && l.d.sort.Concerns(names, schema, e)
		}
	}
	return a.Authors, "", err // the login is the server's, and everybody's
}

func (r afarRows) Rows(ctx context.Context, tables []string) (Files, error) {
	a, err := r.d.ask(ctx, Question{Ask: AskRows, Tables: tables})
	return given(a.Files), err
}
