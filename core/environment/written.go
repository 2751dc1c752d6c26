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
	Folder string `json:"folder"`
	Target string `json:"target,omitempty"`
	// Was and Becomes are sums of the files that say what it holds before, and is to hold.
	Was     string `json:"was"`
	Becomes string `json:"becomes"`
	// Steps are what is done, in that order.
	Steps []WrittenStep `json:"steps"`
	// Stays are data steps whose work stays though no file declares it any more.
	Stays []string `json:"stays,omitempty"`
}

// WrittenStep is a step as data.
type WrittenStep struct {
	// Address is that of the object in the project; What is done with it.
	Address string `json:"address"`
	What    string `json:"what"`
	// Effect is what it costs; Loses what is lost, which is kept first.
	Effect string `json:"effect"`
	Loses  string `json:"loses,omitempty"`
	// Apart is before or after where it is committed by itself, before or after the others; Mode and Session are
	// those of the engine's session in which it is made.
	Apart   string `json:"apart,omitempty"`
	Mode    string `json:"mode,omitempty"`
	Session string `json:"session,omitempty"`
	// Runs is the data step that is run, or taken back.
	Runs string `json:"runs,omitempty"`
	Back bool   `json:"back,omitempty"`
	// Statements are there but where files are written.
	Statements []string `json:"statements,omitempty"`
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
			w.Steps = append(w.Steps, writeStep(s, part.into))
		}
		out = append(out, w)
	}
	return out, nil
}

// WriteSteps gives steps as data, each with the address in its folder.
func WriteSteps(steps []Step) []WrittenStep {
	out := []WrittenStep{}
	for _, s := range steps {
		out = append(out, writeStep(s, s.Into))
	}
	return out
}

// placed is the plan for the target in a folder.
type placed struct {
	into string
	plan *Plan
}

func writeStep(s Step, into string) WrittenStep {
	out := WrittenStep{Address: s.Address.InPath(into).String(), What: s.What, Effect: string(s.Effect), Loses: s.Loss, Mode: s.Mode,
		Session:    s.Session,
		Statements: s.Statements}
	switch {
	case s.Before:
		out.Apart = "before"
	case s.After:
		out.Apart = "after"
	}
	if s.Run != nil {
		out.Runs, out.Back = s.Run.Name, s.Run.Back
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
