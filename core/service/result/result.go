// Package result is what each verb answers, as data: the objects that --json prints, that a server sends and that
// editors read. Each is declared once, as a type with a schema; the list of them in docs/json.md and their JSON Schemas
// (2020-12) in docs/schemas are made from the types (go test ./core/service/result -update).
//
// A schema's name ends with its version. Within a version a field may be added; none changes its meaning or goes.
// Times are RFC 3339 in UTC. Values of elements are texts, as they are shown.
package result

import (
	"bytes"
	"encoding/json"
	"errors"
	"time"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/ledger"
	"oakenchest/core/project"
)

// A Result is an object that says its own schema, such as oaken.commit/1.
type Result interface{ Schema() string }

var errNoObject = errors.New("a result is no object")

// Encode writes a result as JSON, its schema first: over several lines, or on one.
func Encode(r Result, oneLine bool) ([]byte, error) {
	fields, err := marshal(r)
	if err != nil {
		return nil, err
	}
	if len(fields) < 2 || fields[0] != '{' {
		return nil, errNoObject
	}
	schema, err := marshal(r.Schema())
	if err != nil {
		return nil, err
	}
	var flat bytes.Buffer
	flat.WriteString(`{"schema":`)
	flat.Write(schema)
	if fields[1] != '}' {
		flat.WriteByte(',')
	}
	flat.Write(fields[1:])
	if oneLine {
		return append(flat.Bytes(), '\n'), nil
	}
	var out bytes.Buffer
	if err := json.Indent(&out, flat.Bytes(), "", "  "); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

func marshal(v any) ([]byte, error) {
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	err := enc.Encode(v)
	return bytes.TrimSuffix(out.Bytes(), []byte("\n")), err
}

// Time writes a time.
func Time(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// optionalTime is Time, nil for none.
func optionalTime(t time.Time) *string {
	if t.IsZero() {
		return nil
	}
	s := Time(t)
	return &s
}

// Text gives a value of an element; nil for one that is absent.
func Text(v element.Value) *string {
	if v.IsAbsent() {
		return nil
	}
	s := v.String()
	return &s
}

// List is a list that is never null.
func List[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// each gives what f makes of each of a list, never null.
func each[T, U any](list []T, f func(T) U) []U {
	out := make([]U, 0, len(list))
	for _, x := range list {
		out = append(out, f(x))
	}
	return out
}

// Commit is a commit.
type Commit struct {
	ID string `json:"id"`
	// State is its address: BRANCH:NUMBER.
	State     string `json:"state"`
	Author    string `json:"author"`
	Workspace string `json:"workspace"`
	Time      string `json:"time"`
	Message   string `json:"message"`
	// Item is the work item that it is for; empty for none.
	Item string `json:"item"`
	// Parents are the ids of the commits that it stands on.
	Parents []string `json:"parents"`
}

// CommitOf gives a commit.
func CommitOf(c ledger.Commit) Commit {
	return Commit{
		ID: c.ID.String(), State: project.Label(c), Author: c.Author, Workspace: c.Workspace, Time: Time(c.Time),
		Message: c.Message, Item: c.Item,
		Parents: each(c.Parents, ledger.ID.String),
	}
}

// OptionalCommit is CommitOf, nil for none.
func OptionalCommit(c *ledger.Commit) *Commit {
	if c == nil {
		return nil
	}
	out := CommitOf(*c)
	return &out
}

// CommitsOf gives commits.
func CommitsOf(list []ledger.Commit) []Commit { return each(list, CommitOf) }

// Error is how a call failed.
type Error struct {
	Error Failure `json:"error"`
}

// Failure says what went wrong and what to do next.
type Failure struct {
	// Code is the sort of failure, as the exit status has it.
	Code string `json:"code"`
	// Reason, when it is known, is what a program can act on, such as branch-moved or locked.
	Reason string `json:"reason,omitempty"`
	// Subject is what the reason is about: a branch, an address, an environment.
	Subject string `json:"subject,omitempty"`
	// Holder is who has the lock that is in the way.
	Holder  string `json:"holder,omitempty"`
	Message string `json:"message"`
	Hint    string `json:"hint"`
	// Near lists names that may have been meant, the likeliest first.
	Near []string `json:"near,omitempty"`
}

// Schema names it.
func (Error) Schema() string { return "oaken.error/1" }

// ErrorOf gives a failure, with its reason where it has one.
func ErrorOf(f *fault.Error) Error {
	out := Failure{Code: string(f.Code), Message: f.What, Hint: f.Hint, Near: f.Near}
	var r *chest.Refusal
	if errors.As(f, &r) {
		out.Reason, out.Subject = string(r.Reason), r.Subject
		if r.Lock != nil {
			out.Subject, out.Holder = r.Lock.Address, r.Lock.Holder
		}
	}
	return Error{out}
}
