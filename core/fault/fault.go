// Package fault holds the errors that are meant for people: what is wrong with
// which thing, what to do next, and a code that scripts can act on.
//
// Inner errors are wrapped with %w as usual and become a fault where somebody
// knows what the person was trying to do. A fault's texts never hold a secret.
package fault

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
)

// Code says what sort of trouble an error is. Each has its exit status.
type Code string

// The codes, with their exit status.
const (
	Failed      Code = "failed"      // 1: a check failed, or something unforeseen
	Usage       Code = "usage"       // 2: the call is wrong
	Conflict    Code = "conflict"    // 3: conflicts remain
	Refused     Code = "refused"     // 4: a lock, a right, a gate, would lose data
	Unreachable Code = "unreachable" // 5: the chest or the environment can't be reached
	Damaged     Code = "damaged"     // 6: damaged data
	Interrupted Code = "interrupted" // 130: somebody stopped it
)

var status = map[Code]int{Failed: 1, Usage: 2, Conflict: 3, Refused: 4, Unreachable: 5, Damaged: 6, Interrupted: 130}

// Error is an error for people.
type Error struct {
	Code Code
	// What is one sentence: what is wrong with which thing.
	What string
	// Hint is one sentence: what to do next.
	Hint string
	// Near lists names that the person may have meant, the likeliest first.
	Near []string
	// Err is the cause, when there is one. Its text is part of What already.
	Err error
}

// Error gives the first sentence.
func (e *Error) Error() string { return e.What }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Err }

// New makes an error; format and args make its first sentence.
func New(code Code, hint, format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	return &Error{Code: code, What: err.Error(), Hint: hint, Err: errors.Unwrap(err)}
}

// CodeOf gives the code of err, Failed when it has none.
func CodeOf(err error) Code {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return Failed
}

// Status gives the exit status for err: 0 for nil.
func Status(err error) int {
	if err == nil {
		return 0
	}
	return status[CodeOf(err)]
}

// HintOf gives what an error says to do next; empty when it says nothing.
func HintOf(err error) string {
	var e *Error
	if errors.As(err, &e) {
		return e.Hint
	}
	return ""
}

// Word writes an argument of a command as a person must type it in a shell: in quotes where a sign in it
// would mean something else there.
func Word(arg string) string {
	if arg != "" && !strings.ContainsFunc(arg, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("_-./:@%+=,~", r)
	}) && arg[0] != '~' {
		return arg
	}
	return "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
}
