package environment

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/step"
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

// steps gives the data steps that a plan is asked for: none for a target that holds nothing, in
// which all count as done.
func (p *Past) steps(empty bool) (DataSteps, error) {
	if p == nil || empty {
		return DataSteps{}, nil
	}
	if names := p.Steps.Unknown; len(names) > 0 {
		what := "Nothing is recorded of what this target holds, so nobody can tell whether the data step %s was run there."
		if len(names) > 1 {
			what = "Nothing is recorded of what this target holds, so nobody can tell whether these data steps were run there: %s."
		}
		return DataSteps{}, fault.New(fault.Refused, "Say it: --data-steps done, or --data-steps due to run them.", what, strings.Join(stepNames(names), ", "))
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
	return DataSteps{Due: below(p.Steps.Due), Unknown: below(p.Steps.Unknown), Back: Inside(p.Steps.Back, folder), Tokens: p.Steps.Tokens, Undo: p.Steps.Undo}
}

// tableNamed finds tables by the names that statements write; usual is the schema of those that
// name none.
func tableNamed(tables []rows.Table, usual string) func(string) (string, string, bool) {
	bare := strings.NewReplacer(`"`, "", "`", "").Replace
	return func(name string) (string, string, bool) {
		i := slices.IndexFunc(tables, func(t rows.Table) bool {
			return t.SQL == name || bare(t.SQL) == bare(name) || strings.EqualFold(bare(t.SQL), bare(name)) || t.Bare == bare(name) && (t.Schema == usual || t.Schema == "")
		})
		if i < 0 {
			return "", "", false
		}
		return tables[i].Name, tables[i].SQL, true
	}
}

// withSteps puts the data steps into a plan that has the steps of schema and rows.
func (p *Plan) withSteps(j datastep.Journal, schema []Step, c step.Rows, data step.DataSteps, bare []string) {
	p.noted = data.Noted
	p.Steps, p.Stays, p.journal = step.Join(schema, c, data), bare, j
}

// run gives the steps as they are carried out.
func (p *Plan) run() []Step { return p.journal.Written(p.Steps, p.Token) }

// Scripted gives the steps as a script carries them out: the target notes which data steps it ran,
// so that the next deployment does not run them again.
func (p *Plan) Scripted() []Step { return p.journal.Written(p.Steps, datastep.ByScript) }

// undoing gives what takes back the data steps of a plan that was carried out; files get what is
// run again.
func (p *Plan) undoing(files Files) (out DataSteps) {
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

// restoreApart plans that rows are put back which a data step changed or removed; rows that came
// since stay.
func (d tracked) restoreApart(ctx context.Context, all rowsWanted) (out []rows.Wanted, err error) {
	for _, t := range all.tables {
		data, ok := all.lost[apart+t.File]
		i := all.liveAs(t)
		if _, already := all.declared[t.File]; !ok || already || i < 0 || len(t.Key) == 0 {
			continue
		}
		s, err := rows.Parse(data)
		if err == nil {
			err = s.Sort(t.Key)
		}
		w := rows.Wanted{Table: t, Want: s}
		if err == nil {
			err = d.differences(ctx, &w, all.live[i])
			w.Links = inForce(t, all.live[i])
		}
		if err != nil {
			return nil, rows.InFile(apart+t.File, err)
		}
		if w.Diff.Removed = nil; !w.Diff.Empty() {
			out = append(out, w)
		}
	}
	return out, nil
}

// apart is the folder of rows that data steps changed, among what a deployment lost.
const apart = datastep.Folder

// running is how an engine runs data steps.
type running struct {
	split   datastep.Split
	journal datastep.Journal
	usual   string // the schema of names without one
	done    func() ([]datastep.Entry, error)
}

// plan plans the data steps that are due; empty says that the target holds nothing. Steps that can't
// be read are refused, whether they are due or not.
func (r running) plan(files Files, past *Past, empty bool, there []rows.Table) (out step.DataSteps, bare []string, err error) {
	for _, file := range datastep.Names(files) {
		if _, err := datastep.Parse(r.split, file, files[file]); err != nil {
			return out, nil, undeclarable(err)
		}
	}
	asked, err := past.steps(empty)
	if err != nil {
		return out, nil, err
	}
	done, err := r.done()
	if err != nil {
		return out, nil, fault.New(fault.Unreachable, "Check the connection and the rights of the user.", "What data steps were begun in the target can't be read: %w.", err)
	}
	if out, bare, err = r.journal.Plan(r.split, files, asked, done, tableNamed(there, r.usual)); err != nil {
		err = undeclarable(err)
	}
	return out, bare, err
}
