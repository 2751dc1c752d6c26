package pipeline

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
)

// TrackRows writes the rows of tables, as an environment has them, into its folder, and
// gives the paths of the files. name may be empty when there is one environment of
// databases.
func (m *Mover) TrackRows(ctx context.Context, name string, tables []string) ([]string, error) {
	env, err := m.database(ctx, name, func(a, b manifest.Environment) bool { return a.Name == b.Name })
	if err != nil {
		return nil, err
	}
	_, d, err := m.open(ctx, env.Name)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	k, ok := d.(environment.RowsKeeper)
	if !ok {
		return nil, noTables(env)
	}
	files, err := k.Rows(ctx, tables)
	if err != nil {
		return nil, err
	}
	have, err := declared(ctx, m.Desk.Work(), env)
	if err != nil {
		return nil, err
	}
	for name := range files {
		if _, tracked := have[name]; tracked {
			delete(files, name)
		}
	}
	return m.takeRows(ctx, env, files)
}

// takeRows writes files of rows into the workspace, as captured from an environment.
func (m *Mover) takeRows(ctx context.Context, env manifest.Environment, files environment.Files) ([]string, error) {
	c := &capturing{Capture: &Capture{Environment: env}, m: m, got: &environment.Captured{Edits: environment.Files{}}}
	var err error
	if c.record, c.known, err = m.record(ctx, env); err != nil {
		return nil, err
	}
	note, err := c.note(ctx)
	if err != nil {
		return nil, err
	}
	for name, data := range files {
		c.got.Edits[env.Into+"/"+name] = data
	}
	return m.Desk.TakeMore(ctx, note, c.got.Edits)
}

// UntrackRows takes the files of tables' rows out of the workspace, and gives their
// paths.
func (m *Mover) UntrackRows(ctx context.Context, name string, tables []string) ([]string, error) {
	env, err := m.database(ctx, name, func(a, b manifest.Environment) bool { return a.Into == b.Into })
	if err != nil {
		return nil, err
	}
	have, err := declared(ctx, m.Desk.Work(), env)
	if err != nil {
		return nil, err
	}
	tracked, err := environment.TrackedRows(ctx, env.Target, have)
	if err != nil {
		return nil, err
	}
	edits := environment.Files{}
	for _, t := range tables {
		found := ""
		for file, table := range tracked {
			if _, bare, _ := strings.Cut(table, "."); table == t || bare == t {
				found = file
			}
		}
		if found == "" {
			return nil, fault.New(fault.Usage, "The folders called rows in "+env.Into+" have a file for each table that is tracked.",
				"The rows of table %s are not tracked.", t)
		}
		edits[found] = nil
	}
	written, _, err := m.Desk.WriteFiles(ctx, env.Into, edits)
	return written, err
}

func noTables(env manifest.Environment) error {
	return fault.New(fault.Refused, "Name an environment that is a database.", "%s is no database, so it has no rows to track.", env.Name)
}

// database finds an environment that is a database: the one of a name, or the only one;
// several do when they are the same.
func (m *Mover) database(ctx context.Context, name string, same func(a, b manifest.Environment) bool) (manifest.Environment, error) {
	if name != "" {
		return m.declaration(ctx, name)
	}
	var found []manifest.Environment
	for _, e := range m.Project.Manifest.Environments {
		if kind, err := environment.KindOf(e.Target); err == nil && kind != "" {
			found = append(found, e)
		}
	}
	if len(found) == 0 {
		return manifest.Environment{}, fault.New(fault.Usage, "Add one with oaken env add.",
			"The project has no environment that is a database.")
	}
	if slices.ContainsFunc(found, func(e manifest.Environment) bool { return !same(e, found[0]) }) {
		return manifest.Environment{}, fault.New(fault.Usage, "Say which with --from, such as --from "+found[0].Name+".",
			"The project has %d environments that are databases.", len(found))
	}
	return found[0], nil
}
