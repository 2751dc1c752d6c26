package environment

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
)

// Place is a target that is open, and the folder of the project that it holds.
type Place struct {
	Into   string
	Driver Driver
}

// Together makes one environment of several targets: the names of its files begin with
// their folders. Its plans change all targets or none: those without transactions come
// first, and a target that fails brings those before it back to what they were.
func Together(places []Place) Driver { return together(places) }

type together []Place

// Inside gives the files below a folder, without its name.
func Inside(files Files, folder string) Files {
	out := Files{}
	for name, data := range files {
		if below, ok := strings.CutPrefix(name, folder+"/"); ok {
			out[below] = data
		}
	}
	return out
}

// runs gives the files below a folder that may be run.
func (p *Past) runs(folder string) map[string]bool {
	out := map[string]bool{}
	if p != nil {
		for name := range p.Runs {
			if below, ok := strings.CutPrefix(name, folder+"/"); ok {
				out[below] = true
			}
		}
	}
	return out
}

// Put adds the files below a folder to those of a project.
func Put(into Files, folder string, files Files) {
	for name, data := range files {
		into[folder+"/"+name] = data
	}
}

// Capture reads all targets. One that is not there, beside others that are, holds nothing, where nothing is to be in it: a
// deployment makes a target when there is something to put in.
func (t together) Capture(ctx context.Context, have Files) (*Captured, error) {
	out := &Captured{Files: Files{}, Edits: Files{}, Tree: &element.Element{Type: "environment"}}
	var absent error
	missing := 0
	for _, p := range t {
		c, err := p.Driver.Capture(ctx, Inside(have, p.Into))
		if errors.Is(err, ErrMissing) && len(Inside(have, p.Into)) == 0 {
			absent, missing = err, missing+1
			continue
		}
		if err != nil {
			return nil, err
		}
		Put(out.Files, p.Into, c.Files)
		Put(out.Edits, p.Into, c.Edits)
		out.Untracked = append(out.Untracked, c.Untracked...)
		out.Unseen = append(out.Unseen, c.Unseen...)
		for _, r := range c.Renamed {
			r.Into = p.Into
			out.Renamed = append(out.Renamed, r)
		}
		out.Tree.Add(&element.Element{Type: "folder", Key: p.Into, Firm: true, Children: []*element.Element{c.Tree}})
	}
	if missing > 0 && missing == len(t) {
		return nil, absent
	}
	return out, nil
}

// Plan computes what each target needs.
func (t together) Plan(ctx context.Context, declared Files, past *Past) (*Plan, error) {
	var parts []*Plan
	for _, p := range t {
		part, err := p.Driver.Plan(ctx, Inside(declared, p.Into),
			&Past{Lost: Inside(past.Restores(), p.Into), Held: Inside(past.Holds(), p.Into), Runs: past.runs(p.Into),
				Steps: past.stepsIn(p.Into)})
		if err != nil {
			return nil, err
		}
		part.declared = Inside(declared, p.Into)
		for i := range part.Steps {
			part.Steps[i].Into = p.Into
		}
		parts = append(parts, part)
	}
	out := &Plan{}
	for i, part := range parts {
		out.of = append(out.of, placed{t[i].Into, part})
		out.Steps = append(out.Steps, part.Steps...)
		out.Stays = append(out.Stays, part.Stays...)
	}
	if len(t) == 1 {
		out.Opening, out.Begin, out.Closing = parts[0].Opening, parts[0].Begin, parts[0].Closing
		out.Journal = parts[0].Journal
		out.Ending, out.ModeOf, out.SessionOf = parts[0].Ending, parts[0].ModeOf, parts[0].SessionOf
	} else {
		out.Parts = parts
	}
	out.Before = func(ctx context.Context) (Files, error) {
		all := Files{}
		for i, p := range t {
			files, err := parts[i].Before(ctx)
			if err != nil {
				return nil, err
			}
			Put(all, p.Into, files)
		}
		return all, nil
	}
	if len(t) == 1 {
		out.Save, out.Guard = parts[0].Save, parts[0].Guard
	} else if slices.ContainsFunc(parts, func(p *Plan) bool { return p.Save != nil }) {
		out.Save = func(ctx context.Context, folder string) error {
			for i, p := range t {
				if parts[i].Save == nil || !parts[i].Keeps() {
					continue
				}
				if err := parts[i].Save(ctx, filepath.Join(folder, filepath.FromSlash(p.Into))); err != nil {
					return err
				}
			}
			return nil
		}
	}
	out.Apply = func(ctx context.Context, done func(int)) error {
		for _, part := range parts {
			part.Token = out.Token
		}
		return t.apply(ctx, parts, done)
	}
	out.Recorded = func(ctx context.Context) error {
		var errs []error
		for _, part := range parts {
			if part.Noted || slices.ContainsFunc(part.Steps, func(s Step) bool { return s.Run != nil }) {
				errs = append(errs, part.Recorded(ctx))
			}
		}
		return errors.Join(errs...)
	}
	return out, nil
}

// apply changes one target after the other. When one fails, it and those before it are
// brought back.
func (t together) apply(ctx context.Context, parts []*Plan, done func(int)) error {
	if len(t) == 1 {
		return parts[0].Apply(ctx, done)
	}
	keep, err := os.MkdirTemp("", "oaken-undo-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(keep)
	undo := make([]func(context.Context) error, len(t))
	for i, p := range t { // before anything is changed
		if undo[i], err = takeBack(ctx, p, parts[i], filepath.Join(keep, fmt.Sprint(i))); err != nil {
			return err
		}
	}
	before := 0
	order := inOrder(parts)
	for n, i := range order {
		err := parts[i].Apply(ctx, func(step int) {
			if done != nil {
				done(before + step)
			}
		})
		if err != nil {
			return t.failed(context.WithoutCancel(ctx), order[:n+1], parts, undo, err)
		}
		before += len(parts[i].Steps)
	}
	return nil
}

// inOrder lists the targets that a plan changes: what can be written back first, then
// what is a transaction of its own, what loses data last of all.
func inOrder(parts []*Plan) []int {
	var out []int
	for i, p := range parts {
		if len(p.Steps) > 0 {
			out = append(out, i)
		}
	}
	rank := func(p *Plan) int {
		switch {
		case !p.Whole():
			return 0
		case len(p.Loses()) == 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(out, func(a, b int) int { return rank(parts[a]) - rank(parts[b]) })
	return out
}

// failed takes back what the targets before a failed one, the last of those that were
// begun, and itself were given.
func (t together) failed(ctx context.Context, begun []int, parts []*Plan, undo []func(context.Context) error, cause error) error {
	var left []string
	at := t[begun[len(begun)-1]]
	for n, k := range slices.Backward(begun) {
		if n == len(begun)-1 && (parts[k].Whole() || NothingDone(cause)) {
			continue
		}
		if err := undo[k](ctx); err != nil {
			left = append(left, fmt.Sprintf("%s (%v)", t[k].Into, err))
		}
	}
	if len(left) > 0 {
		return fault.New(fault.Failed,
			"Make that target reachable again and run the command once more: it goes on from what is there. oaken rollback takes it back.",
			"%s could not be changed (%w), and what was done already could not be taken back in %s.", at.Into, cause,
			strings.Join(left, " and "))
	}
	return &undoneError{cause}
}

// Undone says of a deployment that failed that everything is as it was.
func Undone(cause error) error { return &undoneError{cause} }

// undoneError is a failure after which all targets are as they were.
type undoneError struct{ cause error }

// Error gives the cause.
func (e *undoneError) Error() string { return e.cause.Error() }

// Unwrap gives the cause.
func (e *undoneError) Unwrap() error { return e.cause }

// takeBack makes what brings a target back to what it holds now; what the plan loses is
// kept in a folder.
func takeBack(ctx context.Context, p Place, part *Plan, folder string) (func(context.Context) error, error) {
	if len(part.Steps) == 0 {
		return nil, nil
	}
	before, err := part.Before(ctx)
	if err != nil {
		return nil, err
	}
	if part.Save != nil && part.Keeps() {
		if err := part.Save(ctx, folder); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context) error {
		lost, err := ReadFolder(folder)
		if err != nil {
			return err
		}
		again := maps.Clone(before)
		back, err := p.Driver.Plan(ctx, again, &Past{Lost: lost, Held: part.declared, Steps: part.Undoing(again)})
		if err != nil {
			return err
		}
		return back.Apply(ctx, nil)
	}, nil
}

// ReadFolder reads the files of a folder, which need not be there.
func ReadFolder(folder string) (Files, error) {
	out := Files{}
	err := filepath.WalkDir(folder, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		name, err := filepath.Rel(folder, p)
		if err == nil {
			out[filepath.ToSlash(name)], err = os.ReadFile(p)
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	return out, err
}

// Close lets go of all targets.
func (t together) Close() error {
	var errs []error
	for _, p := range t {
		errs = append(errs, p.Driver.Close())
	}
	return errors.Join(errs...)
}
