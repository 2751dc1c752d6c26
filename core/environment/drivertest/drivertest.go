// Package drivertest holds drivers of environments to what everybody who uses one relies on: one sentence for each
// promise, and a trial that tries to make it a lie. It is used by tests, and by the program on a target that somebody
// is writing a driver for.
package drivertest

import (
	"context"
	"errors"
	"fmt"

	"oakenchest/core/environment"
)

// Target is a place to try a driver on. It is the trial's own: all that it holds may be changed.
type Target struct {
	// Open reaches it; each call gives a driver of its own.
	Open func(ctx context.Context) (environment.Driver, error)
	// Remove takes it away when the trial is over.
	Remove func(ctx context.Context) error
}

// Subject is what is tried: where, and with which files.
type Subject struct {
	// Address says of which sort the targets are, as any address of one does; empty where that is of no matter.
	Address string
	// New makes a target with nothing in it, for each promise another one.
	New func(ctx context.Context) (Target, error)
	// One and Other are what a target may be asked to hold. Other has something that One has not, has something
	// otherwise, and lacks something.
	One, Other environment.Files
	// Wrong is what can't be declared; nil where everything can.
	Wrong environment.Files
	// Scratch is a folder for what is kept of what a plan loses.
	Scratch func() (string, error)
}

// Verdict says how a promise was kept.
type Verdict string

// The verdicts.
const (
	Kept     Verdict = "kept"
	Broken   Verdict = "broken"
	NotTried Verdict = "not tried"
)

// Outcome is what came of trying one promise.
type Outcome struct {
	// Promise is the sentence, Said what the driver did instead, or why it was not tried.
	Promise string
	Verdict Verdict
	Said    string
}

// Promises lists the sentences.
func Promises() (out []string) {
	for _, p := range promises {
		out = append(out, p.sentence)
	}
	return out
}

// Try holds a driver to one promise. An error says that there was no target to try it on.
func Try(ctx context.Context, s Subject, sentence string) (Outcome, error) {
	for _, p := range promises {
		if p.sentence != sentence {
			continue
		}
		target, err := s.New(ctx)
		if err != nil {
			return Outcome{}, err
		}
		t := &trial{Subject: s, target: target, ctx: ctx}
		out := t.held(p)
		t.close()
		return out, target.Remove(context.WithoutCancel(ctx))
	}
	return Outcome{}, fmt.Errorf("there is no promise %q", sentence)
}

// promise is a sentence, and what tries to make it a lie.
type promise struct {
	sentence string
	try      func(*trial)
}

// trial is one try of one promise. What it finds out it throws, as a broken promise, so that trials read like prose.
type trial struct {
	Subject
	target  Target
	ctx     context.Context
	drivers []environment.Driver
}

// broken is what a trial found; untried why it found nothing.
type (
	broken  string
	untried string
)

func (t *trial) held(p promise) (out Outcome) {
	out = Outcome{Promise: p.sentence, Verdict: Kept}
	defer func() {
		switch found := recover().(type) {
		case nil:
		case broken:
			out.Verdict, out.Said = Broken, string(found)
		case untried:
			out.Verdict, out.Said = NotTried, string(found)
		default:
			panic(found)
		}
	}()
	p.try(t)
	return out
}

func (t *trial) broken(format string, args ...any) { panic(broken(fmt.Sprintf(format, args...))) }

// must ends the trial at an error.
func (t *trial) must(doing string, err error) {
	if err != nil {
		t.broken("%s failed: %v", doing, err)
	}
}

func (t *trial) open() environment.Driver {
	d, err := t.target.Open(t.ctx)
	t.must("opening the target", err)
	t.drivers = append(t.drivers, d)
	return d
}

func (t *trial) close() {
	for _, d := range t.drivers {
		_ = d.Close() // a trial is over
	}
}

func (t *trial) plan(d environment.Driver, files environment.Files, past *environment.Past) *environment.Plan {
	p, err := d.Plan(t.ctx, files, past)
	t.must("planning", err)
	return p
}

// deploy makes the target hold files.
func (t *trial) deploy(files environment.Files, past *environment.Past) {
	d := t.open()
	t.must("carrying a plan out", t.plan(d, files, past).Apply(t.ctx, nil))
}

// holds gives what the target holds, seen by a driver of its own; missing says that there is none.
func (t *trial) holds(have environment.Files) (c *environment.Captured, missing bool) {
	c, err := t.open().Capture(t.ctx, have)
	if errors.Is(err, environment.ErrMissing) {
		return &environment.Captured{}, true
	}
	t.must("reading the target", err)
	return c, false
}

// is ends the trial where the target does not hold just some files.
func (t *trial) is(files environment.Files, when string) {
	c, _ := t.holds(files)
	for name := range c.Edits {
		t.broken("%s the target does not hold what it is to hold: %s is otherwise", when, name)
	}
}

func (t *trial) written(p *environment.Plan) string {
	parts, err := p.Write(t.ctx)
	t.must("writing the plan", err)
	return fmt.Sprintf("%+v", parts)
}
