package drivertest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/schema/step"
)

// memory is a target in memory, whose driver keeps all promises but one.
type memory struct {
	files environment.Files
	lie   string
	asked int
}

func (d *memory) Close() error { return nil }

func (d *memory) Capture(_ context.Context, have environment.Files) (*environment.Captured, error) {
	c := &environment.Captured{Files: maps.Clone(d.files), Edits: environment.Files{}, Tree: &element.Element{Type: "memory"}}
	for name, data := range d.files {
		if string(have[name]) != string(data) {
			c.Edits[name] = data
		}
	}
	for name := range have {
		if _, there := d.files[name]; !there {
			c.Edits[name] = nil
		}
	}
	switch d.lie {
	case "never says the same":
		d.asked++
		c.Untracked = []string{fmt.Sprint(d.asked)}
	case "says that nothing differs":
		c.Edits = environment.Files{}
	case "reads what is not there":
		c.Files["extra.txt"] = []byte("x")
	case "reads nothing without files":
		if have == nil {
			c.Files = environment.Files{}
		}
	}
	return c, nil
}

func (d *memory) Plan(_ context.Context, declared environment.Files, past *environment.Past) (*environment.Plan, error) {
	d.asked++
	if _, wrong := declared["wrong.txt"]; wrong && d.lie != "takes what is wrong" {
		return nil, errors.New("wrong")
	}
	declared = environment.With(declared, past.Restores())
	names := slices.Sorted(maps.Keys(environment.With(d.files, declared)))
	if d.lie == "plans in any order" && d.asked%2 == 0 {
		slices.Reverse(names)
	}
	p := &environment.Plan{Begin: []string{"begin"}}
	for _, name := range names {
		was, had := d.files[name]
		is, has := declared[name]
		if had && has && string(was) == string(is) && d.lie != "does all again" {
			continue
		}
		s := environment.Step{Address: element.Address{}.Below(element.Step{Type: "file", Key: name}), What: "write " + name,
			Effect: step.Instant}
		if !has && d.lie != "loses in silence" {
			s.Loss = "the file " + name
		}
		p.Steps = append(p.Steps, s)
	}
	before := maps.Clone(d.files)
	p.Before = func(context.Context) (environment.Files, error) {
		if d.lie == "says that nothing was there" {
			return environment.Files{}, nil
		}
		return before, nil
	}
	p.Save = func(_ context.Context, folder string) error { return d.save(before, declared, folder) }
	p.Apply = func(ctx context.Context, done func(int)) error {
		return d.apply(ctx, before, declared, len(p.Steps), done)
	}
	if d.lie == "changes things while planning" {
		d.files["planned.txt"] = []byte("x")
	}
	return p, nil
}

func (d *memory) save(before, declared environment.Files, folder string) error {
	for name, data := range before {
		if _, stays := declared[name]; !stays && d.lie != "keeps nothing" {
			if err := errors.Join(os.MkdirAll(folder, 0o777), os.WriteFile(filepath.Join(folder, name), data, 0o666)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *memory) apply(ctx context.Context, before, declared environment.Files, steps int, done func(int)) error {
	if ctx.Err() != nil && d.lie != "works for the dead" {
		return ctx.Err()
	}
	if environment.Sum(before) != environment.Sum(d.files) && d.lie != "carries out old plans" {
		return errors.New("it has changed")
	}
	d.files = maps.Clone(declared)
	switch d.lie {
	case "does half":
		delete(d.files, slices.Sorted(maps.Keys(d.files))[0])
	case "takes what is wrong":
		delete(d.files, "wrong.txt")
	}
	for i := range steps {
		if done != nil && d.lie != "tells nothing" {
			done(i + 1)
		}
		if ctx.Err() != nil && d.lie != "works for the dead" {
			if d.lie != "says undone and is not" {
				d.files = maps.Clone(before)
			}
			return ctx.Err()
		}
	}
	return nil
}

func subject(t *testing.T, lie string) Subject {
	return Subject{
		Address: "memory:x", One: environment.Files{"a.txt": []byte("1"), "b.txt": []byte("1"), "c.txt": []byte("1")},
		Other: environment.Files{"a.txt": []byte("2"), "b.txt": []byte("1"), "d.txt": []byte("1")},
		Wrong: environment.Files{"wrong.txt": []byte("1")},
		New: func(context.Context) (Target, error) {
			m := &memory{files: environment.Files{}, lie: lie}
			return Target{Open: func(context.Context) (environment.Driver, error) { return m, nil },
				Remove: func(context.Context) error { return nil }}, nil
		},
		Scratch: func() (string, error) { return filepath.Join(t.TempDir(), "kept"), nil },
	}
}

// TestEveryLieIsFound lets a driver break one promise after the other.
func TestEveryLieIsFound(t *testing.T) {
	environment.Register(environment.Sort{Scheme: "memory"})
	lies := map[string]string{
		"": "", "says that nothing differs": "what was carried out is there",
		"reads what is not there":     "a new target holds nothing, or is missing",
		"reads nothing without files": "what was carried out is there", "takes what is wrong": "what can't be declared changes nothing",
		"plans in any order": "the same question gets the same plan",
		"does all again":     "what is there needs no step", "loses in silence": "what goes is named",
		"says that nothing was there": "a plan says what was there before it", "changes things while planning": "planning changes nothing",
		"keeps nothing": "what was lost comes back", "works for the dead": "a call that was cut off before does nothing",
		"carries out old plans": "a plan for what has changed since is refused", "does half": "what was carried out is there",
		"never says the same":    "from afar it is the same",
		"tells nothing":          "each step is told of",
		"says undone and is not": "a call that was cut off is undone, or can be gone on from",
	}
	found := map[string]bool{}
	for lie, promise := range lies {
		for _, sentence := range Promises() {
			out, err := Try(t.Context(), subject(t, lie), sentence)
			if err != nil {
				t.Fatal(err)
			}
			if lie == "" && out.Verdict != Kept {
				t.Errorf("an honest driver: %s: %s", sentence, out.Said)
			}
			if sentence == promise && out.Verdict != Broken {
				t.Errorf("a driver that %s keeps the promise that %s", lie, sentence)
			}
			found[sentence] = found[sentence] || out.Verdict == Broken
		}
	}
	for _, sentence := range Promises() {
		if !found[sentence] {
			t.Errorf("nothing breaks the promise that %s", sentence)
		}
	}
	if _, err := Try(t.Context(), subject(t, ""), "it flies"); err == nil {
		t.Error("a promise that nobody gave is tried")
	}
	none := subject(t, "")
	none.Wrong = nil
	if out, err := Try(t.Context(), none, "what can't be declared changes nothing"); err != nil || out.Verdict != NotTried ||
		out.Said == "" {
		t.Errorf("without anything wrong at hand: %+v, %v", out, err)
	}
}
