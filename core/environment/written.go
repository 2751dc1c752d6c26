package environment

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
)

// Written is the plan for one target as data: what people read and approve, and what another plan is held against.
type Written struct {
	// Folder is that of the project which the target holds; Target how people see the target's address.
	Folder string `json:"folder" doc:"the folder of the project that the target holds"`
	Target string `json:"target,omitempty" doc:"the target, as the project names it"`
	// Was and Becomes are sums of the files that say what it holds before, and is to hold.
	Was     string `json:"was" doc:"a sum of what the target held when the plan was made"`
	Becomes string `json:"becomes" doc:"a sum of what it is to hold"`
	// Steps are what is done, in that order.
	Steps []WrittenStep `json:"steps" doc:"what is done, in this order"`
	// Stays are data steps whose work stays though no file declares it any more.
	Stays []string `json:"stays,omitempty" doc:"data steps whose work stays, though their files are gone"`
}

// WrittenStep is a step as data.
type WrittenStep struct {
	Address    string   `json:"address" doc:"the object, in the target's folder"`
	What       string   `json:"what" doc:"what is done"`
	Effect     string   `json:"effect" doc:"what it costs: instant, locks, scans, rewrites, loses data, cost unknown"`
	Loses      string   `json:"loses,omitempty" doc:"what is lost; it is kept first"`
	Apart      string   `json:"apart,omitempty" doc:"before or after: it is committed by itself, before or after the others"`
	Mode       string   `json:"mode,omitempty" doc:"the mode of the engine in which it is made"`
	Session    string   `json:"session,omitempty" doc:"the character set and collation in which it is made"`
	DataStep   string   `json:"data_step,omitempty" doc:"the data step that is run"`
	TakenBack  bool     `json:"taken_back,omitempty" doc:"the data step is taken back"`
	Statements []string `json:"statements,omitempty" doc:"the statements; none where files are written"`
}

// Write gives the plan as data, one part for each target. The same question to the same target gets the same answer.
func (p *Plan) Write(ctx context.Context) ([]Written, error) {
	of := p.of
	if len(of) == 0 {
		of = []placed{{"", p}}
	}
	var out []Written
	for _, part := range of {
		was, err := part.plan.Before(ctx)
		if err != nil {
			return nil, err
		}
		w := Written{Folder: part.into, Was: Sum(was), Becomes: Sum(part.plan.declared), Steps: []WrittenStep{}, Stays: part.plan.Stays}
		for _, s := range part.plan.Steps {
			w.Steps = append(w.Steps, writeStep(s))
		}
		out = append(out, w)
	}
	return out, nil
}

// placed is the plan for the target in a folder.
type placed struct {
	into string
	plan *Plan
}

func writeStep(s Step) WrittenStep {
	out := WrittenStep{Address: s.Address.String(), What: s.What, Effect: string(s.Effect), Loses: s.Loss, Mode: s.Mode, Session: s.Session,
		Statements: s.Statements}
	switch {
	case s.Before:
		out.Apart = "before"
	case s.After:
		out.Apart = "after"
	}
	if s.Run != nil {
		out.DataStep, out.TakenBack = s.Run.Name, s.Run.Back
	}
	return out
}

// Sum names files by their names and contents: SHA-256 (FIPS 180-4) over names and contents with their lengths, in the
// order of names, in hexadecimal digits. Files that go, with nil for their contents, count as not there.
func Sum(files Files) string {
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if data := files[name]; data != nil {
			fmt.Fprintf(h, "%d %d %s\n", len(name), len(data), name)
			h.Write(data)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}
