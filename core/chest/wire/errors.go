package wire

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
)

// sentinels are the errors that callers act on, by the words by which they cross.
var sentinels = map[string]error{
	"not-found": ledger.ErrNotFound, "moved": ledger.ErrMoved, "taken": ledger.ErrTaken, "newer-records": ledger.ErrNewer,
	"busy": ledger.ErrBusy, "full": ledger.ErrFull, "damaged": ledger.ErrDamaged, "read-only": ledger.ErrReadOnly,
	"away": ledger.ErrAway, "content-missing": content.ErrMissing, "content-swept": content.ErrSwept, "content-full": content.ErrFull,
	"content-read-only": content.ErrReadOnly, "content-away": content.ErrAway, "no-bale": content.ErrNoBale, "newer": ErrNewer,
	"signed-out": ErrSignedOut, "limit": ErrLimit, "no-project": ErrNoProject,
}

var (
	// ErrSignedOut: nobody is signed in, or not any more.
	ErrSignedOut = errors.New("nobody is signed in")
	// ErrNoProject: the server has no such project, or none that who asks may see.
	ErrNoProject = errors.New("there is no such project")
	// ErrLimit: more was asked for than one may, or than is carried at once.
	ErrLimit = errors.New("that is more than the server takes")
)

// said is how an error is written.
type said struct {
	// Code is that of package fault; What and Hint are for people.
	Code fault.Code `json:"code"`
	What string     `json:"what"`
	Hint string     `json:"hint,omitempty"`
	// Is are words for programs.
	Is      []string       `json:"is,omitempty"`
	Refusal *chest.Refusal `json:"refusal,omitempty"`
	Damage  *damage        `json:"damage,omitempty"`
	Place   string         `json:"place,omitempty"`
	// Request names the request in the server's log.
	Request string `json:"request,omitempty"`
}

type damage struct {
	Digest content.Digest `json:"digest"`
	Reason string         `json:"reason"`
}

// Answer is an error as HTTP carries it.
type Answer struct {
	Status int
	Body   []byte
}

// EncodeError writes an error. One that nobody knows crosses as the name of its request alone: what it says may be of
// nobody's concern outside.
func EncodeError(err error, request string) Answer {
	s, status := saying(err)
	s.Request = request
	if status == http.StatusInternalServerError {
		s.What = "The server met something unforeseen"
		if request != "" {
			s.What += ", which its log tells under " + request
		}
		s.What += "."
		s.Hint = "Try again; if it stays so, tell whoever runs the server."
	}
	body, err := json.Marshal(s)
	if err != nil {
		return Answer{http.StatusInternalServerError, []byte(`{"code":"failed"}`)}
	}
	return Answer{status, append(body, '\n')}
}

// statusOf gives HTTP's status of what an error is, by our codes.
var statusOf = map[fault.Code]int{
	fault.Usage: http.StatusBadRequest, fault.Conflict: http.StatusConflict, fault.Refused: http.StatusConflict,
	fault.Unreachable: http.StatusServiceUnavailable, fault.Damaged: http.StatusConflict, fault.Failed: http.StatusConflict,
}

func saying(err error) (s said, status int) {
	for word, is := range sentinels {
		if errors.Is(err, is) {
			s.Is = append(s.Is, word)
		}
	}
	var f *fault.Error
	var refusal *chest.Refusal
	var moved *ledger.MovedError
	var hurt *content.DamageError
	switch {
	case errors.As(err, &f):
		s.Code, s.What, s.Hint = f.Code, f.What, f.Hint
		status = statusOf[f.Code]
		if errors.As(err, &refusal) {
			s.Refusal = refusal
		}
	case errors.As(err, &refusal):
		s.Code, s.Refusal, status = fault.Refused, refusal, http.StatusConflict
	case errors.As(err, &moved):
		s.Code, s.Place, status = fault.Unreachable, moved.Place, http.StatusGone
	case errors.As(err, &hurt):
		s.Code, s.Damage, status = fault.Damaged, &damage{hurt.Digest, hurt.Reason}, http.StatusConflict
	case len(s.Is) > 0:
		s.Code, s.What, status = fault.Unreachable, sentinels[s.Is[0]].Error(), http.StatusServiceUnavailable
	default:
		s.Code, status = fault.Failed, http.StatusInternalServerError
	}
	switch {
	case errors.Is(err, ErrSignedOut):
		status = http.StatusUnauthorized
	case errors.Is(err, ErrLimit):
		status = http.StatusTooManyRequests
	case errors.Is(err, ErrNoProject):
		status = http.StatusNotFound
	case errors.Is(err, ErrNewer), errors.Is(err, content.ErrNoBale):
		status = http.StatusBadRequest
	case status == 0:
		status = http.StatusConflict
	}
	return s, status
}

// carried is an error that came from afar.
type carried struct {
	what string
	is   []error
}

func (e *carried) Error() string   { return e.what }
func (e *carried) Unwrap() []error { return e.is }

// DecodeError reads what EncodeError wrote. What is no error of this protocol comes from something in between, and says
// that the server is out of reach.
func DecodeError(status int, body []byte) error {
	var s said
	if err := json.Unmarshal(body, &s); err != nil || s.Code == "" {
		return fmt.Errorf("%w: something that is no server of oaken answers with status %d", ledger.ErrAway, status)
	}
	var inner []error
	for _, word := range s.Is {
		if is, ok := sentinels[word]; ok {
			inner = append(inner, is)
		}
	}
	switch {
	case s.Refusal != nil && s.What == "":
		return s.Refusal
	case s.Refusal != nil:
		inner = append(inner, s.Refusal)
	case s.Place != "":
		return &ledger.MovedError{Place: s.Place}
	case s.Damage != nil:
		return &content.DamageError{Digest: s.Damage.Digest, File: "the server's store", Reason: s.Damage.Reason}
	}
	cause := error(&carried{s.What, inner})
	if s.Hint == "" && len(inner) > 0 {
		return cause
	}
	return &fault.Error{Code: s.Code, What: s.What, Hint: s.Hint, Err: cause}
}
