package environment

import (
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
)

// DataSteps are the data steps that a plan is asked for.
type DataSteps = datastep.Wanted

// IsDataStep says that a file of the folder of a database is a data step.
func IsDataStep(name string) bool { return datastep.Owns(name) }

// RunsStep is what the steps of a plan say that run a data step.
const RunsStep = datastep.Runs

// TakesStepBack is what those say that take one back.
const TakesStepBack = datastep.TakesBack

// StepFile gives the name of the file of a data step below the folder of a database.
func StepFile(step string) string { return datastep.Folder + step + ".sql" }

// DataSteps gives the data steps that a plan is asked for: none for a target that holds nothing, in
// which all count as done.
func (p *Past) DataSteps(empty bool) (DataSteps, error) {
	if p == nil || empty {
		return DataSteps{}, nil
	}
	if names := p.Steps.Unknown; len(names) > 0 {
		what := "Nothing is recorded of what this target holds, so nobody can tell whether the data step %s was run there."
		if len(names) > 1 {
			what = "Nothing is recorded of what this target holds, so nobody can tell whether these data steps were run there: %s."
		}
		return DataSteps{}, fault.New(fault.Refused, "Say it: --data-steps done, or --data-steps due to run them.", what,
			strings.Join(stepNames(names), ", "))
	}
	return p.Steps, nil
}

func stepNames(files []string) (out []string) {
	for _, f := range files {
		out = append(out, datastep.NameOf(f))
	}
	return out
}

// stepsIn gives the data steps below a folder.
func (p *Past) stepsIn(folder string) DataSteps {
	if p == nil {
		return DataSteps{}
	}
	below := func(names []string) (out []string) {
		for _, n := range names {
			if name, ok := strings.CutPrefix(n, folder+"/"); ok {
				out = append(out, name)
			}
		}
		return out
	}
	return DataSteps{Due: below(p.Steps.Due), Unknown: below(p.Steps.Unknown), Back: Inside(p.Steps.Back, folder), Tokens: p.Steps.Tokens,
		Undo: p.Steps.Undo}
}

// Scripted gives the steps as a script carries them out: the target notes which data steps it ran,
// so that the next deployment does not run them again.
func (p *Plan) Scripted() []Step { return p.Journal.Written(p.Steps, datastep.ByScript) }

// Undoing gives what takes back the data steps of a plan that was carried out; files get what is
// run again.
func (p *Plan) Undoing(files Files) (out DataSteps) {
	out.Back = Files{}
	for _, s := range p.Steps {
		if s.Run == nil {
			continue
		}
		file := datastep.Folder + s.Run.Name + ".sql"
		if s.Run.Back {
			files[file] = []byte(s.Run.Text)
			out.Due = append(out.Due, file)
		} else {
			out.Back[file] = []byte(s.Run.Text)
		}
	}
	return out
}

// Carried gives the steps as they are carried out.
func (p *Plan) Carried() []Step { return p.Journal.Written(p.Steps, p.Token) }
