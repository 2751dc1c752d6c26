package database

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/step"
)

// tableNamed finds tables by the names that statements write; usual is the schema of those that
// name none.
func tableNamed(tables []rows.Table, usual string) func(string) (string, string, bool) {
	bare := strings.NewReplacer(`"`, "", "`", "").Replace
	return func(name string) (string, string, bool) {
		i := slices.IndexFunc(tables, func(t rows.Table) bool {
			return t.SQL == name || bare(t.SQL) == bare(name) || strings.EqualFold(bare(t.SQL), bare(name)) || t.Bare == bare(name) &&
				(t.Schema == usual || t.Schema == "")
		})
		if i < 0 {
			return "", "", false
		}
		return tables[i].Name, tables[i].SQL, true
	}
}

// WithSteps puts the data steps into a plan that has the steps of schema and rows.
func WithSteps(p *environment.Plan, j datastep.Journal, schema []environment.Step, c step.Rows, data step.DataSteps, bare []string) {
	p.Noted = data.Noted
	p.Steps, p.Stays, p.Journal = step.Join(schema, c, data), bare, j
}

// restoreApart plans that rows are put back which a data step changed or removed; rows that came
// since stay.
func (d Tracked) restoreApart(ctx context.Context, all RowsWanted) (out []rows.Wanted, err error) {
	for _, t := range all.Tables {
		data, ok := all.Lost[apart+t.File]
		i := all.liveAs(t)
		if _, already := all.Declared[t.File]; !ok || already || i < 0 || len(t.Key) == 0 {
			continue
		}
		s, err := rows.Parse(data)
		if err == nil {
			err = s.Sort(t.Key)
		}
		w := rows.Wanted{Table: t, Want: s}
		if err == nil {
			err = d.differences(ctx, &w, all.Live[i])
			w.Links = inForce(t, all.Live[i])
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

// Running is how an engine runs data steps.
type Running struct {
	Split   datastep.Split
	Journal datastep.Journal
	Usual   string // the schema of names without one
	Done    func() ([]datastep.Entry, error)
}

// Plan plans the data steps that are due; empty says that the target holds nothing. Steps that can't
// be read are refused, whether they are due or not.
func (r Running) Plan(files environment.Files, past *environment.Past, empty bool, there []rows.Table) (out step.DataSteps,
	bare []string, err error) {
	for _, file := range datastep.Names(files) {
		if _, err := datastep.Parse(r.Split, file, files[file]); err != nil {
			return out, nil, Undeclarable(err)
		}
	}
	asked, err := past.DataSteps(empty)
	if err != nil {
		return out, nil, err
	}
	done, err := r.Done()
	if err != nil {
		return out, nil, fault.New(fault.Unreachable, "Check the connection and the rights of the user.",
			"What data steps were begun in the target can't be read: %w.", err)
	}
	if out, bare, err = r.Journal.Plan(r.Split, files, asked, done, tableNamed(there, r.Usual)); err != nil {
		err = Undeclarable(err)
	}
	return out, bare, err
}
