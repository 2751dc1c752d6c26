package step

import "slices"

// Tighten puts what comes after the data steps behind all that comes before them, each in its
// order: first things are added, then data steps run, then rows are held to new rules and what is
// not wanted any more goes.
func Tighten(steps []Step) {
	rank := func(s Step) int {
		switch {
		case s.Before:
			return 0
		case s.After:
			return 3
		case s.AfterRows:
			return 2
		}
		return 1
	}
	slices.SortStableFunc(steps, func(a, b Step) int { return rank(a) - rank(b) })
}

// Rows are the steps that write rows, those that remove some afterwards, and those that want the
// tables to be as they will be.
type Rows struct{ Write, Remove, Late []Step }

// Join puts the steps of rows and of data where they belong among those of a schema: rows that
// come before what wants them to be there, then data steps, then rows that go.
func Join(schema []Step, rows Rows, data DataSteps) []Step {
	first := 0
	for first < len(schema) && schema[first].Before {
		first++
	}
	tight := slices.IndexFunc(schema, func(s Step) bool { return s.AfterRows || s.After })
	if tight < 0 {
		tight = len(schema)
	}
	last := slices.IndexFunc(schema, func(s Step) bool { return s.After })
	if last < 0 {
		last = len(schema)
	}
	tight = max(tight, first)
	return slices.Concat(schema[:first], data.Before, schema[first:tight], rows.Write, data.Between, rows.Remove, schema[tight:last],
		rows.Late, data.After, schema[last:])
}

// DataSteps are the data steps of a plan, by when they run.
type DataSteps struct {
	Before, Between, After []Step
	// Noted says that some are left out, because the target notes that they were run.
	Noted bool
}

// Due says which there are.
func (d DataSteps) Due() Due {
	out := Due{Before: len(d.Before) > 0, Between: len(d.Between) > 0}
	for _, list := range [][]Step{d.Before, d.Between} {
		for _, s := range list {
			out.Texts = append(out.Texts, s.Run.Does...)
		}
	}
	return out
}
