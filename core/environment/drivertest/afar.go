package drivertest

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"reflect"
	"slices"

	"oakenchest/core/environment"
)

// aloof gives the driver as somebody sees it from afar: what is asked and answered crosses as JSON.
func (t *trial) aloof() environment.Driver {
	if t.Address == "" {
		panic(untried("of which sort the target is was not said"))
	}
	d, err := environment.Afar(t.ctx, t.Address, func(ctx context.Context, q environment.Question) (a environment.Answer, err error) {
		t.crosses(q, &q)
		own, err := t.target.Open(ctx)
		if err != nil {
			return environment.RespondTo(err)
		}
		defer own.Close()
		answer, err := environment.Respond(ctx, own, q)
		t.crosses(answer, &a)
		return a, err
	})
	t.must("reaching the target from afar", err)
	return d
}

func (t *trial) crosses(value, into any) {
	data, err := json.Marshal(value)
	t.must("writing down what is asked or answered", err)
	if reflect.ValueOf(into).Elem().Set(reflect.Zero(reflect.TypeOf(into).Elem())); json.Unmarshal(data, into) != nil {
		t.broken("what is asked or answered can't be read again: %.200s", data)
	}
}

func (t *trial) fromAfarItIsTheSame() {
	t.readsTheSame(nil)
	t.plansTheSame(t.One)
	t.deploy(t.One, nil)
	for _, files := range []environment.Files{nil, {}, t.One, t.Other} {
		t.readsTheSame(files)
	}
	t.plansTheSame(t.Other)
}

func (t *trial) readsTheSame(have environment.Files) {
	here, err1 := t.open().Capture(t.ctx, have)
	there, err2 := t.aloof().Capture(t.ctx, have)
	if (err1 == nil) != (err2 == nil) || err1 != nil && err1.Error() != err2.Error() {
		t.broken("read here it says %v, and from afar %v", err1, err2)
	}
	if err1 != nil {
		return
	}
	same := maps.EqualFunc(here.Files, there.Files, bytes.Equal) && maps.EqualFunc(here.Edits, there.Edits, func(a, b []byte) bool {
		return bytes.Equal(a, b) && (a == nil) == (b == nil)
	})
	if !same || !slices.Equal(here.Untracked, there.Untracked) || !slices.Equal(here.Unseen, there.Unseen) ||
		!slices.Equal(here.Renamed, there.Renamed) {
		t.broken("read from afar it holds something else")
	}
}

func (t *trial) plansTheSame(files environment.Files) {
	here, there := t.plan(t.open(), files, nil), t.plan(t.aloof(), files, nil)
	a, err1 := here.Before(t.ctx)
	b, err2 := there.Before(t.ctx)
	t.must("saying what was there", err1)
	t.must("saying from afar what was there", err2)
	if !reflect.DeepEqual(environment.WriteSteps(here.Steps), environment.WriteSteps(there.Steps)) ||
		!reflect.DeepEqual(here.Loses(), there.Loses()) || here.Whole() != there.Whole() || here.Keeps() != there.Keeps() ||
		environment.Sum(a) != environment.Sum(b) {
		t.broken("planned from afar something else would be done")
	}
	for i, s := range here.Scripted() {
		if !slices.Equal(here.Script(s), there.Script(there.Scripted()[i])) {
			t.broken("written from afar, the script of step %d is another one", i+1)
		}
	}
	if err := there.Apply(t.ctx, nil); err == nil {
		t.broken("what only looks carried a plan out")
	}
}
