package drivertest

import (
	"context"
	"maps"

	"oakenchest/core/environment"
)

var promises = []promise{
	{"a new target holds nothing, or is missing", (*trial).nothingIsNothing},
	{"planning changes nothing", (*trial).planningChangesNothing},
	{"what was carried out is there", (*trial).whatIsDoneIsThere},
	{"what is there needs no step", (*trial).whatIsThereNeedsNothing},
	{"what was read anew declares the same", (*trial).readAnewItIsTheSame},
	{"there and back is as before", (*trial).thereAndBack},
	{"the same question gets the same plan", (*trial).theSameQuestion},
	{"a plan says what was there before it", (*trial).beforeIsWhatWasThere},
	{"a plan for what has changed since is refused", (*trial).aStalePlanIsRefused},
	{"what can't be declared changes nothing", (*trial).theWrongChangesNothing},
	{"what goes is named", (*trial).whatGoesIsNamed},
	{"what was lost comes back", (*trial).whatWasLostComesBack},
	{"each step is told of", (*trial).stepsAreTold},
	{"a call that was cut off before does nothing", (*trial).aDeadCallDoesNothing},
	{"a call that was cut off is undone, or can be gone on from", (*trial).aCutCallIsUndoneOrGoesOn},
	{"from afar it is the same", (*trial).fromAfarItIsTheSame},
}

func (t *trial) nothingIsNothing() {
	c, _ := t.holds(nil)
	for name, data := range c.Files { // an engine may make something by itself, such as a schema
		if own, there := t.One[name]; !there || string(own) != string(data) {
			t.broken("a new target is said to hold %s", name)
		}
	}
	if p := t.plan(t.open(), t.One, nil); len(p.Steps) == 0 {
		t.broken("a new target is said to hold already what it is asked to hold")
	}
}

func (t *trial) planningChangesNothing() {
	_, missing := t.holds(nil)
	t.plan(t.open(), t.One, nil)
	if _, still := t.holds(nil); missing != still {
		t.broken("planning made the target")
	}
	t.deploy(t.One, nil)
	before, _ := t.holds(nil)
	if len(before.Files) == 0 {
		t.broken("what was carried out is not there")
	}
	t.plan(t.open(), t.Other, nil)
	after, _ := t.holds(nil)
	if environment.Sum(before.Files) != environment.Sum(after.Files) {
		t.broken("after a plan was made the target holds something else")
	}
}

func (t *trial) whatIsDoneIsThere() {
	t.deploy(t.One, nil)
	t.is(t.One, "after the first deployment")
	t.deploy(t.Other, nil)
	t.is(t.Other, "after the second deployment")
	if c, _ := t.holds(nil); len(c.Files) == 0 {
		t.broken("read without any files at hand the target holds nothing")
	}
	c, _ := t.holds(t.One)
	if len(c.Edits) == 0 {
		t.broken("held against other files, nothing is said to differ")
	}
}

func (t *trial) whatIsThereNeedsNothing() {
	for _, files := range []environment.Files{t.One, t.Other} {
		t.deploy(files, nil)
		if p := t.plan(t.open(), files, nil); len(p.Steps) > 0 {
			t.broken("what is there already would be done again: %s", p.Steps[0].What)
		}
	}
}

func (t *trial) readAnewItIsTheSame() {
	t.deploy(t.One, nil)
	c, _ := t.holds(nil)
	if p := t.plan(t.open(), c.Files, nil); len(p.Steps) > 0 {
		t.broken("what was read from the target would change it: %s", p.Steps[0].What)
	}
}

func (t *trial) thereAndBack() {
	t.deploy(t.One, nil)
	for range 2 {
		t.deploy(t.Other, &environment.Past{Held: t.One})
		t.is(t.Other, "there")
		t.deploy(t.One, &environment.Past{Held: t.Other})
		t.is(t.One, "back again")
	}
}

func (t *trial) theSameQuestion() {
	t.deploy(t.One, nil)
	first := t.written(t.plan(t.open(), t.Other, nil))
	for range 3 {
		if again := t.written(t.plan(t.open(), t.Other, nil)); again != first {
			t.broken("two plans for the same differ:\n%s\n%s", first, again)
		}
	}
	if t.written(t.plan(t.open(), t.One, nil)) == first {
		t.broken("plans for different files are the same")
	}
}

func (t *trial) beforeIsWhatWasThere() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), t.Other, nil)
	before, err := p.Before(t.ctx)
	t.must("asking what was there", err)
	if q := t.plan(t.open(), before, nil); len(q.Steps) > 0 {
		t.broken("what is said to be there would change it: %s", q.Steps[0].What)
	}
}

func (t *trial) aStalePlanIsRefused() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), environment.Files{}, nil)
	if len(p.Steps) == 0 {
		t.broken("a plan to hold nothing has no step")
	}
	t.deploy(t.Other, nil)
	if err := p.Apply(t.ctx, nil); err == nil {
		t.broken("a plan was carried out on a target that somebody had changed since")
	}
	t.is(t.Other, "after a plan was refused")
}

func (t *trial) theWrongChangesNothing() {
	if t.Wrong == nil {
		panic(untried("everything can be declared"))
	}
	t.deploy(t.One, nil)
	d := t.open()
	p, err := d.Plan(t.ctx, t.Wrong, nil)
	if err == nil {
		err = p.Apply(t.ctx, nil)
	}
	if err == nil {
		t.broken("what can't be declared is said to be there")
	}
	t.is(t.One, "after it was asked for what can't be")
}

// less is One without what Other lacks.
func (t *trial) less() environment.Files {
	out := maps.Clone(t.One)
	maps.DeleteFunc(out, func(name string, _ []byte) bool { _, there := t.Other[name]; return !there })
	if len(out) == len(t.One) {
		panic(untried("nothing in the first files is missing in the others"))
	}
	return out
}

func (t *trial) whatGoesIsNamed() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), t.less(), nil)
	if len(p.Loses()) == 0 {
		t.broken("what goes is no loss, in the plan")
	}
	if p.Save == nil {
		t.broken("what goes can't be kept")
	}
}

func (t *trial) whatWasLostComesBack() {
	t.deploy(t.One, nil)
	d := t.open()
	p := t.plan(d, t.less(), nil)
	if p.Save == nil {
		t.broken("what goes can't be kept")
	}
	folder, err := t.Scratch()
	t.must("making a folder", err)
	t.must("keeping what goes", p.Save(t.ctx, folder))
	t.must("carrying a plan out", p.Apply(t.ctx, nil))
	lost, err := environment.ReadFolder(folder)
	t.must("reading what was kept", err)
	if len(lost) == 0 {
		t.broken("nothing was kept of what goes")
	}
	t.deploy(t.One, &environment.Past{Lost: lost})
	t.is(t.One, "after what was lost was put back")
}

func (t *trial) stepsAreTold() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), t.Other, nil)
	last := 0
	t.must("carrying a plan out", p.Apply(t.ctx, func(step int) {
		if step < last {
			t.broken("step %d is told of after step %d", step, last)
		}
		last = step
	}))
	if last != len(p.Steps) {
		t.broken("of %d steps the last that was told of is %d", len(p.Steps), last)
	}
}

func (t *trial) aDeadCallDoesNothing() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), t.Other, nil)
	dead, end := context.WithCancel(t.ctx)
	end()
	if err := p.Apply(dead, nil); err == nil {
		t.broken("a plan was carried out for somebody who had gone")
	}
	t.is(t.One, "after a call that was cut off before it began")
}

func (t *trial) aCutCallIsUndoneOrGoesOn() {
	t.deploy(t.One, nil)
	p := t.plan(t.open(), t.Other, nil)
	cut, end := context.WithCancel(t.ctx)
	defer end()
	err := p.Apply(cut, func(int) { end() })
	switch {
	case err == nil:
		t.is(t.Other, "after a call that was cut off and gave no error")
	case p.Whole() || environment.NothingDone(err):
		t.is(t.One, "after a call that was cut off and is said to have been undone")
	default:
		t.deploy(t.Other, nil)
		t.is(t.Other, "after a call that was cut off was gone on from")
	}
}
