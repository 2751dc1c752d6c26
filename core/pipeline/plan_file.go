package pipeline

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
)

// PlanFormat is the first word of a plan as a file.
const PlanFormat = "oaken-plan/1"

// mostPlan bounds, in bytes, the file of a plan.
const mostPlan = 64 << 20

// PlanFile is what would be done to an environment as data: what it was made for and against, each step, what is lost.
// Somebody reads it and approves it; following it does just that or nothing.
type PlanFile struct {
	Format      string `json:"format"`
	Project     string `json:"project"`
	Environment string `json:"environment"`
	// From is the environment that work is promoted from; empty for a deployment.
	From string `json:"from,omitempty"`
	Lane string `json:"lane,omitempty"`
	// Made and By are when and by whom it was made.
	Made time.Time `json:"made"`
	By   string    `json:"by"`
	// State and Commit are what it brings there, for people and as an id; Record is the commit that the environment
	// was known to hold, empty where nothing was known.
	State  string `json:"state"`
	Commit string `json:"commit"`
	Record string `json:"record,omitempty"`
	// Work lists what comes, the oldest first.
	Work []PlannedWork `json:"work"`
	// Chosen is what it was asked for.
	Chosen PlanChoice `json:"chosen"`
	// Unknown lists what no commit knows and the plan changes, Losses what it loses.
	Unknown []string `json:"unknown,omitempty"`
	Losses  []string `json:"losses,omitempty"`
	// Targets are the plans for each target of the environment.
	Targets []environment.Written `json:"targets"`
}

// PlannedWork is a commit that comes with a plan.
type PlannedWork struct {
	State   string `json:"state"`
	Item    string `json:"item,omitempty"`
	Author  string `json:"author"`
	Message string `json:"message"`
}

// PlanChoice is what a plan was asked for, so that following it asks for the same.
type PlanChoice struct {
	Source     string            `json:"source,omitempty"`
	Item       string            `json:"item,omitempty"`
	Items      []string          `json:"items,omitempty"`
	Paths      []string          `json:"paths,omitempty"`
	WithNeeded bool              `json:"needed,omitempty"`
	Again      bool              `json:"again,omitempty"`
	Loss       bool              `json:"loss,omitempty"`
	Drift      bool              `json:"drift,omitempty"`
	Fill       map[string]string `json:"fill,omitempty"`
	DataSteps  string            `json:"steps,omitempty"`
}

// ReadPlan reads the file of a plan. What is written in it otherwise than this program writes it is an error: nobody
// follows what nobody understood.
func ReadPlan(r io.Reader) (*PlanFile, error) {
	data, err := io.ReadAll(io.LimitReader(r, mostPlan+1))
	if err == nil && len(data) > mostPlan {
		err = errors.New("it is too long")
	}
	if err != nil {
		return nil, noPlan(err)
	}
	var f PlanFile
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return nil, noPlan(err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, noPlan(errors.New("something stands behind it"))
	}
	switch {
	case f.Format != PlanFormat:
		return nil, noPlan(fmt.Errorf("its format is %q, and this program knows %q", f.Format, PlanFormat))
	case f.Environment == "" || f.Commit == "" || len(f.Targets) == 0:
		return nil, noPlan(errors.New("it does not say for what it is"))
	}
	return &f, nil
}

func noPlan(err error) error {
	return fault.New(fault.Usage, "oaken deploy ENV --plan FILE and oaken promote FROM TO --plan FILE write plans.",
		"That is no plan: %w.", err)
}

// Write gives the file of the plan.
func (f *PlanFile) Write() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(f)
	return b.Bytes(), err
}

// Sum names the plan by all that it says: SHA-256 (FIPS 180-4) of its canonical form, which does not depend on how the
// file is laid out, in hexadecimal digits.
func (f *PlanFile) Sum() string {
	data, err := json.Marshal(f)
	if err != nil { // texts, numbers and times always can be written
		panic(err)
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Steps counts its steps.
func (f *PlanFile) Steps() (n int) {
	for _, t := range f.Targets {
		n += len(t.Steps)
	}
	return n
}
