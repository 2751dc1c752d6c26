// Package wire says how what the contract of a chest consists of crosses a network: acts and their outcomes, what
// happened to the records, errors. docs/protocol.md is for those who write the other end in another language.
package wire

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
	"unicode"

	"oakenchest/core/chest"
)

// Version is the version of the protocol. It is the first part of each address below a server's own.
const Version = "1"

// acts are all that a program can ask for.
var acts = []chest.Act{
	chest.Publish{}, chest.TakeLocks{}, chest.FreeLocks{}, chest.MakeBranch{}, chest.NameRelease{}, chest.Book{}, chest.EndBooking{},
	chest.Assent{}, chest.Park{}, chest.Unpark{}, chest.OpenReview{}, chest.Remark{}, chest.CloseReview{}, chest.Keep{}, chest.Forget{},
	chest.Number{}, chest.Settle{}, chest.Choose{}, chest.Unsettle{}, chest.Plan{}, chest.EndPlanned{}, chest.PlanRelease{},
	chest.NoteAfter{}, chest.RenameEnvironment{}, chest.Distinguish{}, chest.Undistinguish{}, chest.NoteAttempt{}, chest.NoteLook{},
	chest.Notify{},
}

var byName = func() map[string]reflect.Type {
	out := map[string]reflect.Type{}
	for _, a := range acts {
		out[NameOf(a)] = reflect.TypeOf(a)
	}
	return out
}()

// NameOf gives the name of an act's sort: that of its type, in small letters with hyphens.
func NameOf(a chest.Act) string {
	var out strings.Builder
	for i, r := range reflect.TypeOf(a).Name() {
		if unicode.IsUpper(r) && i > 0 {
			out.WriteByte('-')
		}
		out.WriteRune(unicode.ToLower(r))
	}
	return out.String()
}

// request is how one is written. Who acts is not in it: that the session says.
type request struct {
	Key       string          `json:"key"`
	Workspace string          `json:"workspace"`
	Act       string          `json:"act"`
	Is        json.RawMessage `json:"is"`
	On        chest.Grounds   `json:"on"`
}

// EncodeRequest writes a request as JSON.
func EncodeRequest(r chest.Request) ([]byte, error) {
	is, err := json.Marshal(r.Act)
	if err != nil {
		return nil, err
	}
	return json.Marshal(request{r.Key, r.Actor.Workspace, NameOf(r.Act), is, r.On})
}

// ErrNewer says that somebody asks for what this program does not know.
var ErrNewer = errors.New("nobody here knows that")

// DecodeRequest reads a request. What this program does not know in it is an error that is ErrNewer: to leave it out
// would do something else than was asked for.
func DecodeRequest(data []byte) (chest.Request, error) {
	var q request
	if err := strict(data, &q); err != nil {
		return chest.Request{}, err
	}
	sort, ok := byName[q.Act]
	if !ok {
		return chest.Request{}, fmt.Errorf("%w: the act %q", ErrNewer, q.Act)
	}
	is := reflect.New(sort)
	if err := strict(q.Is, is.Interface()); err != nil {
		return chest.Request{}, err
	}
	return chest.Request{Key: q.Key, Actor: chest.Actor{Workspace: q.Workspace}, Act: is.Elem().Interface().(chest.Act), On: q.On}, nil
}

// Strict reads one JSON value; fields that are not known are an error that is ErrNewer.
func Strict(data []byte, into any) error { return strict(data, into) }

func strict(data []byte, into any) error {
	in := json.NewDecoder(bytes.NewReader(data))
	in.DisallowUnknownFields()
	err := in.Decode(into)
	if err == nil {
		if _, more := in.Token(); more != io.EOF {
			return errors.New("more follows the value")
		}
		return nil
	}
	if strings.Contains(err.Error(), "unknown field") {
		return fmt.Errorf("%w: %w", ErrNewer, err)
	}
	return err
}

// People lists in whose name an act speaks, as what holder, author of a word, or voice. That a commit has an author is not
// among them: who acts may name somebody else, and the trail says so.
func People(a chest.Act) (out []string) {
	say := func(names ...string) {
		for _, n := range names {
			if n != "" {
				out = append(out, n)
			}
		}
	}
	switch a := a.(type) {
	case chest.Publish:
		say(a.BackBy.Author)
		if a.Deployment != nil {
			say(a.Deployment.Author)
		}
		for _, x := range a.Absences {
			say(x.Person)
		}
		if a.Review != nil {
			say(a.Review.Closer)
		}
	case chest.TakeLocks:
		for _, l := range a.Wanted {
			say(l.Holder)
		}
	case chest.FreeLocks:
		say(a.Holder)
	case chest.MakeBranch:
		say(a.Branch.Author)
	case chest.NameRelease:
		say(a.Release.Author)
	case chest.Book:
		say(a.Booking.Person)
	case chest.Assent:
		say(a.Assent.Person)
	case chest.Park:
		say(a.Parked.Person)
	case chest.OpenReview:
		say(a.Review.Author)
	case chest.Remark:
		say(a.Remark.Author)
	case chest.CloseReview:
		say(a.Review.Closer)
	case chest.Settle:
		say(a.Pending.Person)
	case chest.Choose:
		for _, c := range a.Chosen {
			say(c.Person)
		}
	case chest.Plan:
		say(a.Planned.Person)
	case chest.EndPlanned:
		say(a.Planned.By)
	case chest.PlanRelease:
		say(a.Bundle.Person)
	case chest.Distinguish:
		say(a.Distinct.Person)
	case chest.NoteAttempt:
		say(a.Attempt.Person)
	case chest.NoteLook:
		say(a.Look.Person)
	}
	return out
}
