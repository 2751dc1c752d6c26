package pipeline

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"oakenchest/core/environment"
)

// wholePlan is a plan in which every field says something.
func wholePlan() *PlanFile {
	return &PlanFile{Format: PlanFormat, Project: "Brindle Bay", Environment: "live", From: "test", Lane: "Reef",
		Made: time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC), By: "Imke", State: "main:7", Commit: "abc", Record: "def",
		Work: []PlannedWork{{"main:6", "AQ-1", "Imke", "Keepers"}, {"main:7", "AQ-2", "Tarek", "Depths"}},
		Chosen: PlanChoice{Source: "main", Item: "AQ-1", Items: []string{"AQ-1"}, Paths: []string{"database"}, WithNeeded: true,
			Again: true, Loss: true,
			Drift: true, Fill: map[string]string{"tank.depth": "0"}, DataSteps: "due"},
		Unknown: []string{"database::table:x"}, Losses: []string{"table y (3 rows)"},
		Targets: []environment.Written{{Folder: "database", Target: "sqlite:live.db", Was: "1", Becomes: "2",
			Steps: []environment.WrittenStep{{Address: "database::table:tank", What: "add a column", Effect: "instant", Loses: "nothing",
				Apart: "before",
				Mode:  "m", Session: "s", Runs: "r", Back: true, Statements: []string{"alter table tank add column depth real"}}},
			Stays: []string{"step"}}}}
}

func clonePlan(t *testing.T, f *PlanFile) *PlanFile {
	t.Helper()
	data, err := f.Write()
	if err != nil {
		t.Fatal(err)
	}
	out, err := ReadPlan(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// leaves gives every value of a plan that can be set, by its path.
func leaves(v reflect.Value, path string, each func(path string, v reflect.Value)) {
	switch {
	case v.Type() == reflect.TypeFor[time.Time]():
		each(path, v)
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			leaves(v.Field(i), path+"."+v.Type().Field(i).Name, each)
		}
	case v.Kind() == reflect.Slice:
		each(path+"[]", v)
		for i := range v.Len() {
			leaves(v.Index(i), fmt.Sprintf("%s[%d]", path, i), each)
		}
	default:
		each(path, v)
	}
}

// other makes something else of a value.
func other(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(v.String() + "x")
	case reflect.Bool:
		v.SetBool(!v.Bool())
	case reflect.Slice:
		v.Set(reflect.AppendSlice(v.Slice(0, v.Len()), v.Slice(0, 1)))
	case reflect.Map:
		v.Set(reflect.ValueOf(map[string]string{"tank.depth": "1"}))
	case reflect.Struct:
		v.Set(reflect.ValueOf(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)))
	}
}

// TestNothingOfAPlanCanBeOtherwise changes each thing that a plan says, one by one: it is then another plan, and following it
// is refused, but for who made it when.
func TestNothingOfAPlanCanBeOtherwise(t *testing.T) {
	signed := wholePlan()
	if err := signed.moved(clonePlan(t, signed)); err != nil {
		t.Fatalf("a plan is not what it was written as: %v", err)
	}
	var paths []string
	leaves(reflect.ValueOf(signed).Elem(), "", func(path string, _ reflect.Value) { paths = append(paths, path) })
	if len(paths) < 45 {
		t.Fatalf("only %d things are looked at: %v", len(paths), paths)
	}
	for _, changed := range paths {
		now := clonePlan(t, signed)
		leaves(reflect.ValueOf(now).Elem(), "", func(path string, v reflect.Value) {
			if path == changed {
				other(v)
			}
		})
		if now.Sum() == signed.Sum() {
			t.Errorf("%s is changed, and the sum is the same", changed)
		}
		err := signed.moved(now)
		if told := changed == ".Made" || changed == ".By" || changed == ".Lane"; told != (err == nil) {
			t.Errorf("%s is changed: %v", changed, err)
		}
	}
}

func TestALayoutIsNothingThatAPlanSays(t *testing.T) {
	f := wholePlan()
	data, err := f.Write()
	if err != nil {
		t.Fatal(err)
	}
	var flat bytes.Buffer
	if err := json.Compact(&flat, data); err != nil {
		t.Fatal(err)
	}
	again, err := ReadPlan(&flat)
	if err != nil || again.Sum() != f.Sum() {
		t.Errorf("laid out otherwise: %v", err)
	}
	for name, text := range map[string]string{"nothing": "", "a list": "[]", "more behind it": string(data) + "{}",
		"another format":   `{"format":"x"}`,
		"an unknown field": strings.Replace(string(data), `"made"`, `"x":1,"made"`, 1), "half of it": string(data[:len(data)/2]),
		"no target": strings.Replace(string(data), `"targets": [`, `"targets": [], "x": [`, 1), "no words": "\x00\xff"} {
		if _, err := ReadPlan(strings.NewReader(text)); err == nil {
			t.Errorf("%s is a plan", name)
		}
	}
}

func FuzzReadPlan(f *testing.F) {
	data, err := wholePlan().Write()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Add([]byte(`{"format":"oaken-plan/1","environment":"a","commit":"b","targets":[{}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := ReadPlan(bytes.NewReader(data))
		if err != nil {
			return
		}
		again := clonePlan(t, p)
		if again.Sum() != p.Sum() || p.moved(again) != nil {
			t.Errorf("%q is another plan when it is written", data)
		}
	})
}
